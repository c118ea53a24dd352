"""The ground of a workspace: a folder with ``concordex.yaml``, its systems, store, locks and sessions.

It knows no use case; these stand in the other rooms and are handed one of these.  What people import is
:class:`concordex.Workspace`, which has the use cases as methods.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from concordex.errors import CalledWrongly, StoreError
from concordex.words import suggestion

if TYPE_CHECKING:
    from concordex.change.steps import Change
    from concordex.query.tree import Filter
    from concordex.store.catalogue import Catalogue, OpensDatabase
    from concordex.store.database import DatabaseRow
    from concordex.store.journal import Journal, KnownSteps
    from concordex.store.locks import Locks
    from concordex.store.postgresql import Server
    from concordex.store.shelf import Shelf
    from concordex.store.snapshots import Frames
    from concordex.unseen import Secret
    from concordex.wire.dialect import Dialect
    from concordex.wire.http.recording import Played, Recorder
    from concordex.wire.http.session import Endpoint, Session
    from concordex.work.workspace.config import WorkspaceConfig
    from concordex.work.workspace.rights import Allowed
    from concordex.work.workspace.secrets import Secrets
    from concordex.work.workspace.system_settings import Devices, System

#: Below the workspace's folder: data, not to be kept in version control.
STORE = ".concordex"
#: The place of systems that say nothing of where they are reached from.
ANYWHERE = "anywhere"


class BaseWorkspace:
    """The systems, snapshots, entries and changes of one folder."""

    def __init__(self, root: Path | str) -> None:
        self.root = Path(root)
        self._dialects: dict[str, Dialect] = {}
        #: Where what is sent to systems is recorded, if it is; and recordings that answer in the place of systems.
        self.recorded_into: Path | None = None
        self.played: Mapping[str, Played] = {}
        if not (self.root / "concordex.yaml").is_file():
            raise CalledWrongly(
                f"{self.root} is not a workspace: it has no concordex.yaml", advice="concordex init DIR"
            )

    @classmethod
    def nearest(cls, given: Path | None = None) -> Self:
        """The workspace given, or named by CONCORDEX_WORKSPACE, or the nearest from here upwards."""
        named = given or os.environ.get("CONCORDEX_WORKSPACE")
        if named:
            return cls(named)
        try:
            here = Path.cwd()
        except FileNotFoundError as error:
            raise CalledWrongly(
                "the folder that this shell stands in is gone", advice="cd into one that is there"
            ) from error
        for folder in (here, *here.parents):
            if (folder / "concordex.yaml").is_file():
                return cls(folder)
        raise CalledWrongly(
            "there is no workspace here or above",
            advice="make one with `concordex init`, or name one with -w DIR",
        )

    @cached_property
    def _steps_read(self) -> KnownSteps:
        return {}

    @cached_property
    def config(self) -> WorkspaceConfig:
        """What ``concordex.yaml`` says."""
        from concordex.work.workspace.config import load

        return load(self.root)

    @property
    def store(self) -> Path:
        """Where pulled data lives."""
        return self.root / STORE

    @cached_property
    def catalogue(self) -> Catalogue:
        """The catalogue, for writing."""
        self._keep_out_of_version_control()
        return self._opened(write=True)

    @cached_property
    def memory(self) -> Catalogue:
        """The catalogue, for reading, without what this person may not see; the folder may be one not to write to."""
        if "catalogue" in self.__dict__ and not self.allowed.hidden():
            return self.catalogue
        if not self.has_catalogue:
            raise CalledWrongly("nothing has been pulled yet", advice="concordex pull")
        return self._opened(write=False)

    def _opened(self, *, write: bool) -> Catalogue:
        from concordex.store.catalogue import Catalogue

        self._refuse_an_emptied_catalogue()
        hidden = set() if write else self.allowed.hidden()
        return Catalogue(self._database(), write=write, trusted=self._trusted(), hidden=hidden)

    def _database(self) -> OpensDatabase:
        """How the catalogue is opened: a file below the store, or one that is shared."""
        from functools import partial

        if (server := self.server) is not None:
            from concordex.store.postgresql import opened

            return partial(opened, server)
        from concordex.store.sqlite import SqliteDatabase

        return partial(SqliteDatabase, self.catalogue_file)

    @property
    def catalogue_file(self) -> Path:
        """Where the catalogue is, if it is not shared."""
        return self.store / "catalogue.sqlite"

    @cached_property
    def server(self) -> Server | None:
        """Where the catalogue is shared, if it is."""
        settings = self.config.store
        if settings.catalogue is None:
            return None
        from concordex.store.postgresql import Server

        password = self.secrets.of_store(settings.password)
        return Server(url=settings.catalogue, schema=settings.db_schema, password=password)

    @property
    def has_catalogue(self) -> bool:
        """Whether there is a catalogue to read."""
        if {"catalogue", "memory"} & self.__dict__.keys():
            return True
        if self.server is None:
            return self.catalogue_file.is_file()
        if (memory := self._opened(write=False)).database.unmade:
            memory.database.close()
            return False
        self.__dict__["memory"] = memory
        return True

    @cached_property
    def frames(self) -> Frames:
        """What was pulled and reconciled, as frames."""
        from concordex.store.snapshots import Frames

        return Frames(self.store, lambda: self.memory, lambda: self.catalogue, self._shelf())

    def _shelf(self) -> Shelf | None:
        """Where snapshots are shared, if they are."""
        snapshots = self.config.store.snapshots
        if snapshots is None:
            return None
        from concordex.store.shelf import ShelfPlace, shelf

        at = snapshots.at if snapshots.is_object_store else str(self.root / Path(snapshots.at).expanduser())
        key = self.secrets.of_store(snapshots.key)
        return shelf(
            ShelfPlace(
                at=at, endpoint=snapshots.endpoint, key_id=snapshots.key_id, key=key, ca=self._file(snapshots.ca)
            )
        )

    @cached_property
    def allowed(self) -> Allowed:
        """What this process may do here."""
        from concordex.work.workspace.rights import Allowed

        return Allowed(self.config)

    @cached_property
    def secrets(self) -> Secrets:
        """What signing in needs, fetched when it is needed."""
        from concordex.work.workspace.secrets import Secrets

        return Secrets(self.root, self.config)

    @cached_property
    def locks(self) -> Locks:
        """Who writes to which system now."""
        if (server := self.server) is not None:
            from concordex.store.shared_locks import SharedLocks

            return SharedLocks(self.store, server, lambda: self.catalogue)
        from concordex.store.locks import Locks

        return Locks(self.store)

    @cached_property
    def journal(self) -> Journal:
        """The journal of changes, for writing."""
        from concordex.store.journal import Journal

        return Journal(self.catalogue.database, self._steps_read, self.allowed.require)

    @cached_property
    def record_of_changes(self) -> Journal:
        """The journal of changes, for reading."""
        from concordex.store.journal import Journal

        if not self.has_catalogue:
            raise CalledWrongly("there is no change yet", advice="push, sync, set, config push, … prepare one")
        return Journal(self.memory.database, self._steps_read, self.allowed.require)

    def systems(self, names: Sequence[str] = (), *, tags: Sequence[str] = (), labels: Sequence[str] = ()) -> list[str]:
        """The systems named, or all; narrowed to those with one of ``tags`` or ``labels``.

        An unknown name, tag or label is told with its nearest.
        """
        known = self.config.systems
        for tag in tags:
            every = {own for system in known.values() for own in system.tags}
            if tag not in every:
                raise CalledWrongly(f"no system has the tag {tag!r}", advice=suggestion(tag, every))
        for label in labels:
            every = {system.label for system in known.values() if system.label}
            if label not in every:
                raise CalledWrongly(f"no system has the label {label!r}", advice=suggestion(label, every))
        for name in names:
            if name not in known:
                raise CalledWrongly(f"there is no system {name!r}", advice=suggestion(name, known))
        if not known:
            raise CalledWrongly(
                "this workspace has no system yet", advice="concordex system add NAME --dialect … --url …"
            )
        return [
            name
            for name, system in known.items()
            if (not names or name in names)
            and (not tags or set(tags) & set(system.tags))
            and (not labels or system.label in labels)
        ]

    def target(self, name: str) -> tuple[str, str | None]:
        """What ``name`` means: a system, which has no address, or one of the workspace's devices (DEVICES:ADDRESS)."""
        devices, _, address = name.partition(":")
        if devices not in self.config.devices:
            if address and devices not in self.config.systems:
                advice = suggestion(devices, self.config.devices)
                raise CalledWrongly(f"there are no devices {devices!r}", advice=advice)
            return self.systems([name])[0], None
        if not address:
            raise CalledWrongly(f"{name} are many devices", advice=f"say which one: {name}:ADDRESS")
        return devices, address

    def is_device(self, name: str) -> bool:
        """Whether ``name`` means devices of the workspace, or one of them, and no system."""
        return name.partition(":")[0] in self.config.devices

    def active(self, names: Sequence[str]) -> list[str]:
        """Those of ``names`` that are not paused; an error where all are."""
        active = [name for name in names if not self.config.systems[name].paused]
        if names and not active:
            what = f"{names[0]} is paused" if len(names) == 1 else "all of these systems are paused"
            raise CalledWrongly(what, advice=f"concordex system resume {' '.join(names)}")
        return active

    @cached_property
    def places(self) -> frozenset[str]:
        """Where this machine is: the names by which systems say from where they are reached."""
        named = os.environ.get("CONCORDEX_WHERE", "").replace(",", " ").split()
        return frozenset(named or [ANYWHERE])

    def place_of(self, system: str) -> str:
        """From where a system is reached, or a target."""
        settings = self.config.systems.get(system)
        return settings.runs.where if settings and settings.runs else ANYWHERE

    def check_reach(self, system: str) -> None:
        """Raise CalledWrongly where a system is not reached from this machine."""
        place = self.place_of(system)
        if place != ANYWHERE and place not in self.places:
            raise CalledWrongly(
                f"{system} is reached from {place} alone",
                advice=f"on a machine there: CONCORDEX_WHERE={place} concordex …; or a job, which a runner there takes",
            )

    def codes(self) -> set[str]:
        """Our fields that may hold a one-time code or a secret."""
        fields = set()
        for name in (*self.config.systems, *self.config.devices):
            for write in (table.write for table in self.dialect(name).tables.values() if table.write):
                fields |= {field for field, how in write.fields.items() if how.once or how.secret}
        return fields

    def dialect(self, system: str) -> Dialect:
        """The dialect that a system speaks, or devices do."""
        from concordex.wire.dialect.load import find

        name = (self.config.systems.get(system) or self.config.devices[system.partition(":")[0]]).dialect
        if name not in self._dialects:
            self._dialects[name] = find(name, self.root / "dialects")
        return self._dialects[name]

    def speaks(self, system: str, dialect: Dialect) -> None:
        """From now on a system speaks this dialect here."""
        self._dialects[self.config.systems[system].dialect] = dialect

    def role(self, system: str) -> str:
        """Whether a system manages devices or is told about them."""
        return self.config.systems[system].role or self.dialect(system).role

    def session(self, system: str, dialect: Dialect | None = None) -> Session:
        """A session with a system, or a device; entered with ``async with``.  ``dialect`` stands in for its own."""
        from concordex.wire.http.session import Session
        from concordex.work.workspace.config import check_credentials

        if system not in self.played:
            self.allowed.require("run" if self.allowed.may("run", system) else "pull", system)
        if self.is_device(system):
            devices, address = self.target(system)
            return self.device_session(devices, address or "")
        self.active([system])
        if system not in self.played:
            self.check_reach(system)
        spoken = dialect or self.dialect(system)
        if system in self.played:
            return Session(self._from_recording(system, spoken), spoken, recording=self.played[system])
        check_credentials(self.config.systems[system], spoken, system, self.root)
        return Session(self._endpoint(system, self.config.systems[system]), spoken, self._recorder(system, spoken))

    def _recorder(self, system: str, dialect: Dialect) -> Recorder | None:
        from concordex.wire.http.recording import Recorder

        into = self.recorded_into
        return Recorder(into / f"{system}.har", system, dialect.name) if into is not None else None

    def _from_recording(self, system: str, dialect: Dialect) -> Endpoint:
        """A system that a recording answers for: no secret is needed, since none is in it."""
        from concordex.unseen import HIDDEN
        from concordex.wire.http.session import Endpoint

        settings = self.config.systems[system]
        given = {n: settings.credentials.get(n, HIDDEN) for n, c in dialect.credentials.items() if not c.secret}
        hidden = dict.fromkeys((n for n, c in dialect.credentials.items() if c.secret), HIDDEN)
        trusted = frozenset(settings.trust)
        return Endpoint(name=system, url=self.played[system].url, credentials=given | hidden, trusted=trusted)

    def device_session(self, devices: str, address: str) -> Session:
        """A session with one of the ``devices`` of the workspace; refused where that address is not to be called."""
        from concordex.wire.http.session import Session
        from concordex.work.workspace.config import check_credentials

        settings, spoken = self.config.devices[devices], self.dialect(devices)
        check_credentials(settings, spoken, devices, self.root, "devices")
        if not settings.reaches(address):
            raise CalledWrongly(
                f"{address!r} is not among the addresses of {devices}",
                advice=f"devices: {devices}: addresses: in concordex.yaml says which are called",
            )
        endpoint = self._endpoint(f"{devices} at {address}", settings)
        return Session(replace(endpoint, url=settings.url.replace("{address}", address)), spoken)

    def _endpoint(self, name: str, system: System | Devices) -> Endpoint:
        from concordex.wire.http.session import Endpoint
        from concordex.work.workspace.secret_sources import is_reference

        tls, folder = system.tls, getattr(system, "folder", None)
        database = getattr(system, "database", None)
        credentials: dict[str, Secret | str] = dict(system.credentials)
        for name_of, given in system.credentials.items():
            if is_reference(given):
                credentials[name_of] = self.secrets.of(given, name, system)
        proxy = system.proxy
        hidden = self.secrets.of(proxy.password, name, system) if proxy and proxy.password else None
        return Endpoint(
            name=name, url=system.url, folder=self.root / folder if folder else None, database=database, root=self.root,
            credentials=credentials,
            ca=self._file(tls.ca), certificate=self._file(tls.certificate), key=self._file(tls.key),
            verify=tls.verify, fingerprint=tls.fingerprint, proxy=proxy.url if proxy else None,
            proxy_user=proxy.user if proxy else None, proxy_password=hidden, rate=system.rate,
            concurrency=system.concurrency, trusted=frozenset(system.trust),
        )  # fmt: skip

    def _trusted(self) -> set[tuple[str, str]]:
        """Systems and tables that are believed though nothing proves them whole."""
        return {(name, table) for name, system in self.config.systems.items() for table in system.trust}

    def _file(self, name: str | None) -> str | None:
        return str(self.root / name) if name else None

    def close(self) -> None:
        """Close what was opened; it is opened again when it is needed."""
        for name in ("catalogue", "memory", "frames", "journal", "record_of_changes", "_steps_read", "locks"):
            opened = self.__dict__.pop(name, None)
            if name in ("catalogue", "memory") and opened is not None:
                opened.database.close()
            elif name == "locks" and opened is not None:
                opened.close()

    @property
    def can_write(self) -> bool:
        """Whether this user may write to the store."""
        return os.access(self.store if self.store.exists() or self.server is None else self.root, os.W_OK)

    def asks(self, system: str) -> bool:
        """Whether a secret of the system is asked for at the terminal, which must come before other work."""
        return any(given.startswith("ask:") for given in self.config.systems[system].credentials.values())

    def query(self, text: str) -> Filter:
        """A filter, with the groups of the workspace that it names replaced by what they stand for."""
        from concordex.query.groups import parsed
        from concordex.work.workspace.groups import groups

        return parsed(text, groups(self.root))

    def change(self, number: int) -> Change:
        """A change and its steps, as they stand; where the process that ran it was killed, done or stopped."""
        change = self.record_of_changes.change(number)
        self.allowed.require("see", change.system)
        if not self._is_abandoned(number, change.system, change.state):
            return change
        return replace(change, state=_left({step.state for step in change.steps}))

    def changes(self) -> list[DatabaseRow]:
        """All changes, newest first; where the process that ran one was killed, done or stopped."""
        return [
            {**row, "state": _left(row["steps"])} if self._is_abandoned(row["id"], row["system"], row["state"]) else row
            for row in self.record_of_changes.changes()
            if self.allowed.may("see", row["system"])
        ]

    def writes(self, number: int | None = None) -> list[DatabaseRow]:
        """Every step that left here, of all changes or of one, the newest first, as far as this person may see it."""
        return [row for row in self.record_of_changes.entries(number) if self.allowed.may("see", row["system"])]

    def _is_abandoned(self, number: int, system: str, state: str) -> bool:
        """Whether a change says that it is running, and nobody runs it."""
        if state != "running":
            return False
        holder = self.locks.holder(system)
        return holder is None or holder.get("change", number) != number

    def memory_of_writes(self, system: str, table: str) -> dict[str, dict[str, Any]]:
        """What we last wrote of each record of a table, field by field, as it was read back."""
        return self.record_of_changes.written(system, table)

    def signature(self) -> dict[str, str]:
        """Who is at work here, for the journal."""
        return {"by": self.allowed.who}

    def now(self) -> datetime:
        """The moment from which ages are counted: of a shared store by the clock that all who share it have."""
        return datetime.now(UTC) + self._behind

    @cached_property
    def _behind(self) -> timedelta:
        """By how much this machine's clock is behind that of the database."""
        if self.server is None or not self.has_catalogue:
            return timedelta()
        there = datetime.fromisoformat(self.memory.database.moment())
        return there - datetime.now(UTC)

    def _refuse_an_emptied_catalogue(self) -> None:
        """Raise StoreError where it knows nothing of what is there: going on would number pulls from 1 again."""
        from concordex.store.salvage import is_emptied

        path = self.catalogue_file
        if self.server is None and is_emptied(path) and next(self.store.glob("snapshots/*/*/*.parquet"), None):
            raise StoreError(
                f"the catalogue {path} is empty, and there are snapshots",
                advice="concordex mend rebuilds it from what is left",
            )

    def _keep_out_of_version_control(self) -> None:
        try:
            self.store.mkdir(mode=0o700, exist_ok=True)
            if self.store.stat().st_mode & 0o077 and self.store.stat().st_uid == os.getuid():
                self.store.chmod(0o700)  # made by an earlier release: what is pulled is nobody else's
            ignore = self.store / ".gitignore"
            if not ignore.exists():
                ignore.write_text("*\n", encoding="utf-8")
        except OSError as error:
            raise StoreError(
                f"the store {self.store} cannot be written", why=error.strerror or str(error),
                advice="pulls and changes are kept there: run as a user who may write, or use another with -w",
            ) from error  # fmt: skip


def _left(states: Collection[str]) -> str:
    """How a change stands whose process was killed: it may have had nothing left to do but to say so."""
    return "done" if set(states) == {"confirmed"} else "stopped"
