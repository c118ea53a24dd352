"""Whom is told what in ``concordex.yaml``: by mail, by a webhook, into a file, or by a command."""

from __future__ import annotations

import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from concordex.documents import Part, fault_at
from concordex.work.workspace.duration import Duration
from concordex.work.workspace.secret_sources import SCHEMES, is_reference
from concordex.work.workspace.system_settings import Window

Kind = Literal["failed", "partly", "recovered", "findings", "drift", "found", "waiting"]
#: Machines that are this one, to which nothing needs to be hidden on its way.
_HERE = ("127.0.0.1", "::1", "localhost")
_ADDRESS = re.compile(r"[^@\s<>\",;:\x00-\x1f]+@[^@\s<>\",;:\x00-\x1f]+")


class ToldPlace(Part):
    """What all ways of telling have in common."""

    of: list[Kind] = Field(
        default=["failed", "partly", "recovered", "findings", "drift", "found", "waiting"],
        min_length=1, description="What is told there; all of it, if it does not say.",
    )  # fmt: skip
    jobs: list[str] = Field(default_factory=list, description="Only of these jobs.")
    quiet: list[Window] = Field(default_factory=list, description="When nothing is sent; it is, once they are over.")
    digest: Duration | None = Field(None, description="Gathered, and sent no more often than this.")
    template: str | None = Field(None, description="A Jinja template in the workspace, in place of our own text.")


class ByMail(ToldPlace):
    """By mail (RFC 5321), always over TLS but to this machine."""

    by: Literal["mail"]
    server: str = Field(description="smtps://HOST:465 for TLS from the start, smtp://HOST:587 for STARTTLS (RFC 3207).")
    sender: str = Field(alias="from")
    to: list[str] = Field(min_length=1)
    user: str | None = None
    password: str | None = Field(None, description="Where it is kept, as for credentials.")
    ca: str | None = Field(None, description="A file with the CA that signed the server's certificate.")

    @field_validator("to", mode="before", json_schema_input_type=str | list[str])
    @classmethod
    def _several(cls, given: object) -> object:
        return [given] if isinstance(given, str) else given

    @model_validator(mode="after")
    def _sound(self) -> ByMail:
        parts = urlsplit(self.server)
        if parts.scheme not in ("smtp", "smtps") or not parts.hostname or parts.username or parts.path not in ("", "/"):
            raise fault_at(("server",), "should be smtps://HOST:PORT or smtp://HOST:PORT")
        for place, address in (("from", self.sender), *(("to", one) for one in self.to)):
            if not _ADDRESS.fullmatch(address):
                raise fault_at((place,), f"{address!r} is no address for mail")
        _secret("password", self.password)
        if self.password and not self.user:
            raise fault_at(("user",), "is missing, and there is a password")
        return self

    @property
    def is_here(self) -> bool:
        """Whether the server is this machine: then TLS is used if it offers it."""
        return urlsplit(self.server).hostname in _HERE


class ByWebhook(ToldPlace):
    """By a POST of JSON, or of what a template writes, signed so that the other side knows whom it is from."""

    by: Literal["webhook"]
    url: str
    headers: dict[str, str] = Field(default_factory=dict)
    media_type: str = Field("application/json", description="Of what a template writes.")
    key: str | None = Field(None, description="Where the key is kept, as for credentials: it signs what is sent.")
    key_id: str = "concordex"
    signed: Literal["hmac", "hmac-sha256", "ed25519", "ecdsa-p256-sha256", "rsa-pss-sha512"] = Field(
        "hmac",
        description="hmac: a header with the HMAC of the body (RFC 2104); else HTTP message signatures (RFC 9421).",
    )
    ca: str | None = None

    @model_validator(mode="after")
    def _sound(self) -> ByWebhook:
        parts = urlsplit(self.url)
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.username:
            raise fault_at(("url",), "should be https://HOST/PATH")
        if parts.scheme == "http" and parts.hostname not in _HERE:
            raise fault_at(("url",), "is not https, and everybody on its way could read what is told")
        _secret("key", self.key)
        return self


class IntoFile(ToldPlace):
    """Into a file, a line of JSON for each message."""

    by: Literal["file"]
    file: str = Field(description="From the workspace's folder.")


class ByCommand(ToldPlace):
    """By a command that is given the message as JSON on its standard input."""

    by: Literal["command"]
    run: str = Field(min_length=1, description="Such as `logger -t concordex`; no shell takes it apart.")


Place = Annotated[ByMail | ByWebhook | IntoFile | ByCommand, Field(discriminator="by")]


def _secret(name: str, given: str | None) -> None:
    if given and not is_reference(given):
        raise fault_at((name,), f"is a secret: say where it is kept, with one of {', '.join(SCHEMES)}:")
