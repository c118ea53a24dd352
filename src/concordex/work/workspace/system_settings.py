"""Systems and devices in ``concordex.yaml``: where each is, how it is trusted, and when it may be written to."""

from __future__ import annotations

import re
from datetime import UTC, datetime, time, timedelta
from fnmatch import fnmatchcase
from ipaddress import ip_address, ip_network
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import AfterValidator, Field, field_validator, model_validator

from concordex.documents import Part, Slug, fault_at
from concordex.work.workspace.duration import Duration
from concordex.work.workspace.secret_sources import is_reference


def address(url: str) -> str:
    """An address that is one, without a name and a password in it: addresses are shown."""
    try:
        reached = urlsplit(url).hostname, urlsplit(url).port
    except ValueError as error:
        raise ValueError(f"is not an address: {error}") from error
    if not reached[0]:
        raise ValueError("is not an address: it names no host")
    if urlsplit(url).netloc.rpartition("@")[1]:
        raise ValueError("holds a name or a password, and addresses are shown: name them as credentials")
    return url


class Tls(Part):
    """How a system's certificate is judged, and our own for a system that asks for one."""

    ca: str | None = Field(None, description="A file with the CA that signed it, from the workspace's folder.")
    fingerprint: str | None = Field(None, description="SHA-256 of the one certificate that is accepted.")
    verify: bool = Field(True, description="false accepts any certificate; every run says so.")
    certificate: str | None = Field(None, description="Our own certificate, in PEM.")
    key: str | None = Field(None, description="Its key, in PEM, where it does not stand in the same file.")

    @field_validator("fingerprint")
    @classmethod
    def _digest(cls, given: str | None) -> str | None:
        digits = re.sub(r"^sha256[:=]|[: -]", "", (given or "").lower())
        if given is not None and not re.fullmatch("[0-9a-f]{64}", digits):
            raise ValueError("should be a SHA-256 fingerprint: 64 hexadecimal digits")
        return given


class LeaveOut(Part):
    """Records that are not kept, and why; every pull tells how many."""

    unseen: Duration | None = Field(None, description="Not seen for so long.")
    nameless: bool = Field(False, description="Without any identity: no serial, no MAC, no name.")
    where: str | None = Field(None, description="For which this filter holds.")
    table: str = Field("devices", description="Of which table.")
    why: str = Field("", description="What reports call it.")

    @model_validator(mode="after")
    def _one(self) -> LeaveOut:
        if sum([self.unseen is not None, self.nameless, self.where is not None]) != 1:
            raise fault_at(("where",), "a rule says one of `unseen`, `nameless` and `where`")
        return self

    @property
    def name(self) -> str:
        """What reports call it."""
        return self.why or (
            f"unseen for {self.unseen}" if self.unseen else "nameless" if self.nameless else self.where or ""
        )


class Proxy(Part):
    """What stands in between; said as an address alone where it asks for no name."""

    url: Annotated[str, Field(pattern=r"^https?://[^\s/]+/?$"), AfterValidator(address)]
    user: str | None = None
    password: str | None = Field(None, description="Where it is kept: env:, file:, keyring:, command: or ask:.")

    @model_validator(mode="before")
    @classmethod
    def _alone(cls, given: Any) -> Any:
        return {"url": given} if isinstance(given, str) else given

    @field_validator("password")
    @classmethod
    def _named(cls, given: str | None) -> str | None:
        if given is not None and not is_reference(given):
            raise ValueError("is a secret: say where it is kept, with env:, file:, keyring:, command: or ask:")
        return given


class Settings(Part):
    """What systems may share."""

    credentials: dict[str, str] = Field(default_factory=dict)
    tls: Tls = Field(default_factory=Tls)
    proxy: Proxy | None = None
    rate: float | None = Field(None, gt=0, description="Requests a second, at the most.")
    concurrency: int | None = Field(None, ge=1, le=64, description="Requests at once.")
    tags: list[str] = Field(default_factory=list)
    trust: dict[Slug, Literal["unproven"]] = Field(
        default_factory=dict, description="Tables that are believed to be whole though nothing proves it."
    )
    leave_out: list[LeaveOut] = Field(default_factory=list)


def known_zone(given: str) -> str:
    """A time zone that there is."""
    try:
        ZoneInfo(given)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise ValueError("is not a time zone of the IANA database, such as Europe/London") from error
    return given


class Window(Part):
    """When a system may be written to."""

    days: list[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]] = Field(
        default_factory=list, description="On which days it begins; on all, if none."
    )
    begin: str = Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$")
    end: str = Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$", description="Before `begin`: on the next day.")
    zone: str = Field("UTC", description="A time zone of the IANA database.")

    _zone = field_validator("zone")(known_zone)

    def holds(self, now: datetime) -> bool:
        """Whether ``now`` is in it; one that ends before it begins ends on the next day."""
        here, begin, end = now.astimezone(ZoneInfo(self.zone)), time.fromisoformat(self.begin), self._end

        def on(moment: datetime) -> bool:
            return not self.days or moment.strftime("%a").lower() in self.days

        at = here.time()
        if begin < end:
            return on(here) and begin <= at < end
        return (on(here) and at >= begin) or (on(here - timedelta(days=1)) and at < end)

    def ends(self, now: datetime) -> datetime:
        """When it ends, of one that holds now; in UTC."""
        here = now.astimezone(ZoneInfo(self.zone))
        day = here.date() if here.time() < self._end else here.date() + timedelta(days=1)
        return datetime.combine(day, self._end, ZoneInfo(self.zone)).astimezone(UTC)

    @property
    def _end(self) -> time:
        return time.fromisoformat(self.end)

    @property
    def in_words(self) -> str:
        """The window in words."""
        days = "".join(f"{day} " for day in self.days)
        return f"{days}{self.begin} to {self.end} {self.zone}"


class Runs(Part):
    """Which machines reach a system."""

    where: Slug = Field(description="Only where CONCORDEX_WHERE, or `work --where`, says so.")


class System(Settings):
    """One API, or one folder of files, under one name."""

    dialect: Slug
    url: Annotated[str, Field(pattern=r"^https?://[^\s/]+(/\S*)?$"), AfterValidator(address)] = ""
    folder: str | None = Field(None, description="Instead of a url: where the files are, from the workspace's folder.")
    database: str | None = Field(
        None,
        pattern=r"^(sqlite:///|postgresql://)\S+$",
        description="Instead of a url: a database, sqlite:///FILE from the workspace's folder or postgresql://USER@HOST/NAME.",
    )
    shares: list[str] = Field(default_factory=list, description="Settings under `shared`, the later ones first.")
    label: str = ""
    describes: str | None = Field(
        None,
        description="Where its API is described: a path that it serves, or a file from the workspace (OpenAPI, OData"
        " metadata); or `graphql:PATH`, `restconf:PATH`: it is asked there.",
    )
    role: Literal["manager", "inventory"] | None = Field(None, description="Where it differs from the dialect's.")
    knows: str | None = Field(None, description="A filter: the devices that it should know.")
    read_only: bool = Field(False, description="Nothing is ever written to it.")
    windows: list[Window] = Field(
        default_factory=list, description="When it may be written to, instead of the guards'."
    )
    runs: Runs | None = Field(None, description="Where it is reached from, if not from everywhere.")
    paused: bool = Field(False, description="Not pulled and not asked until it is resumed.")

    @field_validator("shares", mode="before", json_schema_input_type=str | list[str])
    @classmethod
    def _several(cls, given: Any) -> Any:
        return [given] if isinstance(given, str) else given

    @model_validator(mode="after")
    def _somewhere(self) -> System:
        if sum(map(bool, (self.url, self.folder, self.database))) != 1:
            raise fault_at(("url",), "is required: where is it? (a `folder` instead, for files, or a `database`)")
        if self.database and urlsplit(self.database).password:
            raise fault_at(("database",), "holds a password, and addresses are shown: name it as credential `password`")
        if self.url.startswith("http:") and self.tls.fingerprint:
            raise fault_at(("tls", "fingerprint"), "pins a certificate, and http: has none: say https:")
        return self


class Devices(Settings):
    """Devices of one sort that each answer for themselves, at an address that a row says."""

    dialect: Slug
    url: Annotated[str, Field(pattern=r"^https?://[^\s/]*\{address\}(/\S*)?$")] = Field(
        "https://{address}", description="`{address}` stands for the device's own, with a port where it has one."
    )
    addresses: list[str] = Field(
        min_length=1, description="Networks (10.0.0.0/8) and names (*.ships.example) that are called; no others are."
    )

    @field_validator("addresses")
    @classmethod
    def _sound(cls, given: list[str]) -> list[str]:
        for address in given:
            if "/" in address:
                ip_network(address)
        return given

    def reaches(self, address: str) -> bool:
        """Whether credentials may be sent there: a host or host:port, and nothing else, among ``addresses``."""
        if not re.fullmatch(r"[\w.-]+(:\d{1,5})?|\[[0-9a-fA-F:]+\](:\d{1,5})?", address, re.ASCII):
            return False
        host = (urlsplit(f"//{address}").hostname or "").lower()
        try:
            number = ip_address(host)
        except ValueError:
            return any(fnmatchcase(host, known.lower()) for known in self.addresses if "/" not in known)
        return any(number in ip_network(known) if "/" in known else host == known for known in self.addresses)
