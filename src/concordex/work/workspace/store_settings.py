"""Where a workspace keeps what it knows: below its own folder, or where several machines share it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from concordex.documents import Part, fault_at
from concordex.trust import Wanted
from concordex.work.workspace.secret_sources import SCHEMES, is_reference


class Snapshots(Part):
    """What was pulled, in a folder that every machine sees, or in an object store."""

    at: str = Field(min_length=1, description="A folder, or s3://BUCKET/PREFIX.")
    endpoint: Annotated[str, Field(pattern=r"^https?://")] | None = Field(
        None, description="Where the object store answers, if it is not where its address says by itself."
    )
    key_id: str | None = Field(None, description="As whom to sign in to the object store.")
    key: str | None = Field(None, description="Where its secret is kept, as for credentials.")
    ca: str | None = Field(None, description="The file of the authority that vouches for the endpoint.")

    @property
    def is_object_store(self) -> bool:
        """Whether they are in an object store, and not in a folder."""
        return self.at.startswith("s3://")

    @model_validator(mode="after")
    def _sound(self) -> Snapshots:
        scheme, colon, _ = self.at.partition("://")
        if colon and scheme != "s3":
            raise fault_at(("at",), "is neither a folder nor s3://BUCKET/PREFIX")
        if self.is_object_store and not self.at.removeprefix("s3://").partition("/")[0]:
            raise fault_at(("at",), "names no bucket: s3://BUCKET/PREFIX")
        if not self.is_object_store and (self.endpoint or self.key_id or self.key or self.ca):
            raise fault_at(("at",), "is a folder, to which nobody signs in")
        if bool(self.key_id) != bool(self.key):
            raise fault_at(("key",), "say both `key_id` and `key`, or neither: then what this machine is allowed to")
        if self.key and not is_reference(self.key):
            raise fault_at(("key",), f"is a secret: say where it is kept, with one of {', '.join(SCHEMES)}:")
        return self


class Store(Part):
    """Where the catalogue and the snapshots are, if not below the workspace's own folder."""

    catalogue: Annotated[str, Field(pattern=r"^postgresql://")] | None = Field(
        None, description="postgresql://USER@HOST/DATABASE."
    )
    password: str | None = Field(None, description="Where the database's password is kept, as for credentials.")
    db_schema: Annotated[str, Field(pattern=r"^[a-z_][a-z0-9_]{0,62}$")] = Field(
        "concordex", alias="schema", description="The schema of that database that is this workspace's alone."
    )
    snapshots: Snapshots | None = None

    @model_validator(mode="after")
    def _sound(self) -> Store:
        url = self.catalogue or ""
        if "@" in url and ":" in url.partition("://")[2].rpartition("@")[0]:
            text = "holds a password: say where it is kept under `password`, such as env:NAME"
            raise fault_at(("catalogue",), text)
        if self.password and not is_reference(self.password):
            raise fault_at(("password",), f"is a secret: say where it is kept, with one of {', '.join(SCHEMES)}:")
        if self.catalogue and self.snapshots is None:
            text = "is missing: who shares a catalogue shares what it names, in a folder or an object store"
            raise fault_at(("snapshots",), text)
        return self

    def wanted(self) -> list[Wanted]:
        """The secrets that it needs, and where each would be sent."""
        found = [Wanted(self.password, "store", self.catalogue or "")] if self.password else []
        if self.snapshots and self.snapshots.key:
            there = " ".join(filter(None, [self.snapshots.endpoint, self.snapshots.at, self.snapshots.ca]))
            found.append(Wanted(self.snapshots.key, "store", there))
        return found
