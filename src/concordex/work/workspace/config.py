"""The format of ``concordex.yaml``: systems, and the rules of the house."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from functools import partial
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import AfterValidator, Field, field_validator, model_validator

from concordex.documents import Part, Slug, check, dotted, fault_at, line_of, quickly, read_yaml
from concordex.errors import DocumentError, QueryError
from concordex.insight.thresholds import BOUND
from concordex.match.choose import Choose
from concordex.model.fields import ASKABLE, FIELDS
from concordex.query.bind import Binder
from concordex.query.groups import Group, parsed
from concordex.work.workspace.groups import groups
from concordex.work.workspace.secret_sources import SCHEMES, is_reference

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect

FILE = "concordex.yaml"
Duration = Annotated[str, Field(pattern=r"^\d+(\.\d+)?[smhdw]$", description="Such as 30m, 12h, 14d or 6w.")]


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


class Window(Part):
    """When a system may be written to."""

    days: list[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]] = Field(
        default_factory=list, description="On which days it begins; on all, if none."
    )
    begin: str = Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$")
    end: str = Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$", description="Before `begin`: on the next day.")
    zone: str = Field("UTC", description="A time zone of the IANA database.")

    @field_validator("zone")
    @classmethod
    def _known(cls, given: str) -> str:
        try:
            ZoneInfo(given)
        except (ZoneInfoNotFoundError, ValueError) as error:
            raise ValueError("is not a time zone of the IANA database, such as Europe/London") from error
        return given

    @property
    def in_words(self) -> str:
        """The window in words."""
        days = "".join(f"{day} " for day in self.days)
        return f"{days}{self.begin} to {self.end} {self.zone}"


class System(Settings):
    """One API, or one folder of files, under one name."""

    dialect: Slug
    url: Annotated[str, Field(pattern=r"^https?://[^\s/]+(/\S*)?$"), AfterValidator(address)] = ""
    folder: str | None = Field(None, description="Instead of a url: where the files are, from the workspace's folder.")
    shares: list[str] = Field(default_factory=list, description="Settings under `shared`, the later ones first.")
    label: str = ""
    role: Literal["manager", "inventory"] | None = Field(None, description="Where it differs from the dialect's.")
    knows: str | None = Field(None, description="A filter: the devices that it should know.")
    read_only: bool = Field(False, description="Nothing is ever written to it.")
    windows: list[Window] = Field(
        default_factory=list, description="When it may be written to, instead of the guards'."
    )
    paused: bool = Field(False, description="Not pulled and not asked until it is resumed.")

    @field_validator("shares", mode="before")
    @classmethod
    def _several(cls, given: Any) -> Any:
        return [given] if isinstance(given, str) else given

    @model_validator(mode="after")
    def _somewhere(self) -> System:
        if bool(self.url) == bool(self.folder):
            raise fault_at(("url",), "is required: where is it? (a `folder` instead, for files)")
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


class KindRule(Part):
    """How the value of a field is chosen."""

    by: Literal["order", "freshest", "agreed", "specific", "joined"] = "order"
    order: list[str] = Field(default_factory=list, description="Systems, the most trusted first.")

    @property
    def chosen(self) -> Choose:
        """The rule as the core knows it."""
        return Choose(by=self.by, order=self.order)


class FieldRule(KindRule):
    """How the value of a field is chosen, and for which kinds otherwise."""

    kinds: dict[str, KindRule] = Field(default_factory=dict)

    @property
    def chosen(self) -> Choose:
        """The rule as the core knows it."""
        return Choose(by=self.by, order=self.order, kinds={kind: rule.chosen for kind, rule in self.kinds.items()})


class Reconcile(Part):
    """How records become entries."""

    prefer: list[str] = Field(default_factory=list, description="Systems, the most trusted first.")
    fields: dict[str, list[str] | FieldRule] = Field(
        default_factory=dict, description="For single fields: systems in order, or a rule."
    )
    placeholders: list[str] = Field(default_factory=list, description="Further serials that mean nothing.")
    stale_after: Duration = "14d"
    at_rest: str | None = Field(None, description="A filter: what no manager is expected to know, such as spares.")


class SyncTarget(Part):
    """What is written into one inventory."""

    retire_after: Duration | None = Field(
        None, description="Records that we made are retired when no whole pull of their source had them for so long."
    )

    origin: str | None = Field(
        None, description="The system whose ids are written as `origin`; without it, the one that saw it last."
    )
    where: str | None = Field(None, description="Only entries for which this filter holds.")
    owners: dict[str, Literal["ours", "theirs", "when_empty", "when_made"]] = Field(
        default_factory=dict, description="Whose a field is: ours, theirs, when_empty, when_made."
    )


class KeyOf(Part):
    """Another table of the same database, whose key a column holds."""

    table: str
    column: str = Field(description="The column of it that says what we mean, such as a site's name.")
    id: str = Field("id", description="The column of it that is its key.")


class TargetColumn(Part):
    """A column of a table that we write, and whose it is."""

    to: str
    owner: Literal["ours", "theirs", "when_empty", "when_made"] = "ours"
    of: KeyOf | None = Field(None, description="In a database: it holds the key of a row of this table.")


class Into(Part):
    """A table in a database, or a file, that is kept up with the concordance."""

    url: Annotated[str, Field(pattern=r"^(sqlite:///|postgresql://)")] | None = Field(
        None, description="sqlite:///FILE from the workspace's folder, or postgresql://USER@HOST/DATABASE."
    )
    password: str | None = Field(None, description="Where the database's password is kept, as for credentials.")
    table: str = "devices"
    file: str | None = Field(None, description="Instead of a url: a .csv, .xlsx or .parquet file.")
    key: str = Field("serial", description="Our field by which rows are told apart.")
    columns: dict[str, TargetColumn] = Field(min_length=1, description="Our field: the column.")
    where: str | None = Field(None, description="Only entries for which this filter holds.")

    @field_validator("columns", mode="before")
    @classmethod
    def _short(cls, given: Any) -> Any:
        if not isinstance(given, Mapping):
            return given
        return {name: {"to": to} if isinstance(to, str) else to for name, to in given.items()}

    @model_validator(mode="after")
    def _sound(self) -> Into:
        if bool(self.url) == bool(self.file):
            raise fault_at(("url",), "say a `url` or a `file`")
        if self.url and "@" in self.url and ":" in self.url.partition("://")[2].rpartition("@")[0]:
            raise fault_at(("url",), "holds a password: say where it is kept under `password`, such as env:NAME")
        if self.password and not is_reference(self.password):
            raise fault_at(("password",), f"is a secret: say where it is kept, with one of {', '.join(SCHEMES)}:")
        for name in self.columns:
            if name not in FIELDS or name == "record_id":
                raise fault_at(("columns", name), "is not one of our fields")
        if self.key not in self.columns:
            raise fault_at(("key",), f"the field {self.key!r} is not among the columns")
        return self

    @property
    def where_to(self) -> str:
        """What changes call the table."""
        return self.file or self.table


class Keep(Part):
    """How long pulled data is kept."""

    snapshots: Duration | None = Field(None, description="Snapshots older than this are removed after a pull.")
    least: int = Field(2, ge=1, description="So many whole snapshots of each table stay, however old.")


class Falls(Part):
    """By how much a list may fall from one pull to the next and still be believed."""

    share: float = Field(1 / 3, ge=0, le=1, description="Of the records that it had.")
    least: int = Field(10, ge=0, description="Falls by no more records than these are always believed.")

    def doubtful(self, before: int, now: int) -> bool:
        """Whether a person should look before such a fall is believed: a list that is empty now, always."""
        fell = before - now
        return (before > 0 and now == 0) or (fell > self.least and fell > before * self.share)


class Guards(Part):
    """What stops a run that is larger than it should be, or comes at the wrong time."""

    creations: int = Field(1000, ge=0)
    updates: int = Field(1000, ge=0)
    deletions: int = Field(100, ge=0)
    retirements: int = Field(50, ge=0)
    actions: int = Field(100, ge=0)
    windows: list[Window] = Field(default_factory=list, description="When anything may be written; always, if none.")
    share: float = Field(0.5, ge=0, le=1, description="Of the records of a table, how much may be altered.")


class MayMove(Part):
    """What is no drift when it moves."""

    system: str | None = None
    kind: str | None = Field(None, description="A kind of object; all, without one.")
    name: str = Field("*", description="Of which objects, by name, with * and ?.")
    member: str | None = Field(None, description="Only this member; the whole object, without one.")


class DriftRules(Part):
    """How live objects may differ from their baseline."""

    ignore: list[MayMove] = Field(default_factory=list)


class Threshold(Part):
    """A reading that a person should hear of."""

    metric: str = Field(description="Such as battery.level.")
    unit: str | None = Field(None, description="Only readings in this unit.")
    per: Literal["second", "minute", "hour", "day"] | None = Field(
        None, description="Of a counter: how fast it grows in such a span, on average."
    )
    over: Duration = Field("1d", description="Readings that are older do not count.")
    warning: str | None = Field(None, pattern=BOUND, description="Such as < 20.")
    error: str | None = Field(None, pattern=BOUND)
    where: str | None = Field(None, description="A filter on entries, such as group = quay.")

    @model_validator(mode="after")
    def _bounded(self) -> Threshold:
        if self.warning is None and self.error is None:
            raise fault_at((), "says neither `warning` nor `error`, such as < 20")
        return self


class Batteries(Part):
    """When a battery is to be replaced."""

    worn_at: float = Field(60, gt=0, lt=100, description="Percent of what it held when it was new.")
    within: Duration = Field("90d", description="What will not last longer is to be replaced now.")


class HealthRules(Part):
    """What of the readings a person should hear of."""

    thresholds: list[Threshold] = Field(default_factory=list)
    batteries: Batteries = Field(default_factory=Batteries)


class WorkspaceConfig(Part):
    """The whole file."""

    format: Literal[1]
    shared: dict[Slug, Settings] = Field(default_factory=dict)
    systems: dict[Slug, System] = Field(default_factory=dict)
    reconcile: Reconcile = Field(default_factory=Reconcile)
    sync: dict[Slug, SyncTarget] = Field(default_factory=dict)
    targets: dict[Slug, Into] = Field(default_factory=dict)
    devices: dict[Slug, Devices] = Field(default_factory=dict)
    drift: DriftRules = Field(default_factory=DriftRules)
    guards: Guards = Field(default_factory=Guards)
    keep: Keep = Field(default_factory=Keep)
    falls: Falls = Field(default_factory=Falls)
    health: HealthRules = Field(default_factory=HealthRules)


def load(root: Path) -> WorkspaceConfig:
    """The configuration in ``root``; every fault with its line and key."""
    return quickly(root / FILE, partial(_config, root))


def _config(root: Path, document: Any) -> WorkspaceConfig:
    config = check(_with_shared(document, root), WorkspaceConfig, str(root / FILE), at=document)
    faults = [*_unknown_systems(document, config), *_bad_filters(document, config, groups(root))]
    if faults:
        raise DocumentError(str(root / FILE), faults)
    return config


def _with_shared(document: Any, root: Path) -> Any:
    """Each system with what it shares laid below its own settings."""
    systems, shared = document.get("systems"), document.get("shared") or {}
    if not isinstance(systems, Mapping) or not isinstance(shared, Mapping):
        return document
    whole = {}
    for name, system in systems.items():
        shares = system.get("shares", []) if isinstance(system, Mapping) else []
        for other in reversed([shares] if isinstance(shares, str) else shares):
            if other not in shared:
                place = ("systems", name, "shares")
                text = f"there is nothing called {other!r} under `shared`"
                raise DocumentError(str(root / FILE), [(line_of(document, place), ".".join(place), text)])
        whole[name] = system
        for other in reversed([shares] if isinstance(shares, str) else shares):
            whole[name] = _laid_over(shared[other], whole[name])
    return {**document, "systems": whole}


def _laid_over(below: Any, above: Any) -> Any:
    if isinstance(below, Mapping) and isinstance(above, Mapping):
        return {**below, **{key: _laid_over(below.get(key), value) for key, value in above.items()}}
    return above


def check_credentials(
    system: System | Devices, dialect: Dialect, name: str, root: Path, section: str = "systems"
) -> None:
    """Raise DocumentError where a system lacks a credential, or a secret is written in the file."""
    faults: list[tuple[tuple[str, ...], str]] = []
    for wanted, spec in dialect.credentials.items():
        place = (section, name, "credentials", wanted)
        given = system.credentials.get(wanted)
        if given is None:
            faults.append((place, f"is missing: {spec.about}"))
        elif spec.secret and not is_reference(given):
            text = f"is a secret: say where it is kept, with one of {', '.join(f'{s}:' for s in SCHEMES)}"
            faults.append((place, text))
    for given in set(system.credentials) - set(dialect.credentials):
        place = (section, name, "credentials", given)
        known = ", ".join(dialect.credentials) or "none"
        text = f"the dialect {dialect.name} knows no such credential; it knows: {known}"
        faults.append((place, text))
    if faults:
        document = read_yaml(root / FILE)
        numbered = sorted((line_of(document, place), ".".join(place), text) for place, text in faults)
        raise DocumentError(str(root / FILE), numbered)


def _bad_filters(document: Any, config: WorkspaceConfig, known: Mapping[str, Group]) -> list[tuple[int, str, str]]:
    """Filters that cannot be meant: told when the file is read, not when they are used."""
    filters: list[tuple[tuple[str | int, ...], str | None]] = [(("reconcile", "at_rest"), config.reconcile.at_rest)]
    filters += [(("sync", name, "where"), rule.where) for name, rule in config.sync.items()]
    filters += [(("targets", name, "where"), into.where) for name, into in config.targets.items()]
    filters += [(("health", "thresholds", at, "where"), rule.where) for at, rule in enumerate(config.health.thresholds)]
    for name, system in config.systems.items():
        filters.append((("systems", name, "knows"), system.knows))
        filters += [
            (("systems", name, "leave_out", at, "where"), rule.where)
            for at, rule in enumerate(system.leave_out)
            if rule.table == "devices" and rule.where and "." not in rule.where
        ]
    faults = []
    for place, text in filters:
        try:
            if text is not None:
                Binder(parsed(text, known), ASKABLE, datetime.now(UTC), extra=False).check()
        except QueryError as error:
            message = f"{error}".replace("\n", "\n  ") + (f"\n      {error.advice}" if error.advice else "")
            faults.append((line_of(document, place), dotted(document, place), message))
    return faults


def _unknown_systems(document: Any, config: WorkspaceConfig) -> list[tuple[int, str, str]]:
    places: list[tuple[tuple[str | int, ...], str]] = [
        (("reconcile", "prefer", at), name) for at, name in enumerate(config.reconcile.prefer)
    ]
    for field, rule in config.reconcile.fields.items():
        names = rule.order if isinstance(rule, FieldRule) else rule
        inside = ("order",) if isinstance(rule, FieldRule) else ()
        places += [(("reconcile", "fields", field, *inside, at), name) for at, name in enumerate(names)]
    places += [(("sync", name), name) for name in config.sync]
    places += [(("sync", name, "origin"), rule.origin) for name, rule in config.sync.items() if rule.origin]
    return [
        (line_of(document, place), dotted(document, place), f"there is no system {name!r} above")
        for place, name in places
        if name not in config.systems
    ]
