"""The format of ``concordex.yaml``: systems, and the rules of the house."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field

from concordex.documents import Part, check, dotted, line_of, read_yaml
from concordex.errors import DocumentError, QueryError
from concordex.model.fields import ASKABLE
from concordex.query.bind import Binder
from concordex.query.parse import parse
from concordex.wire.dialect import Dialect, Slug
from concordex.wire.secrets import SCHEMES, is_reference

FILE = "concordex.yaml"
Duration = Annotated[str, Field(pattern=r"^\d+(\.\d+)?[smhdw]$", description="Such as 30m, 12h, 14d or 6w.")]


class Tls(Part):
    """How a system's certificate is judged."""

    ca: str | None = Field(None, description="A file with the CA that signed it, from the workspace's folder.")
    verify: bool = True


class System(Part):
    """One API under one name."""

    dialect: Slug
    url: Annotated[str, Field(pattern=r"^https?://[^\s/]+(/\S*)?$")]
    label: str = ""
    role: Literal["manager", "inventory"] | None = Field(None, description="Where it differs from the dialect's.")
    credentials: dict[str, str] = Field(default_factory=dict)
    tls: Tls = Field(default_factory=Tls)


class Reconcile(Part):
    """How records become entries."""

    prefer: list[str] = Field(default_factory=list, description="Systems, the most trusted first.")
    fields: dict[str, list[str]] = Field(default_factory=dict, description="The same, for single fields.")
    placeholders: list[str] = Field(default_factory=list, description="Further serials that mean nothing.")
    stale_after: Duration = "14d"
    at_rest: str | None = Field(None, description="A filter: what no manager is expected to know, such as spares.")


class SyncTarget(Part):
    """What is written into one inventory."""

    where: str | None = Field(None, description="Only entries for which this filter holds.")
    owners: dict[str, Literal["ours", "theirs", "when_empty", "when_made"]] = Field(
        default_factory=dict, description="Whose a field is: ours, theirs, when_empty, when_made."
    )


class Guards(Part):
    """What stops a run that is larger than it should be."""

    creations: int = Field(1000, ge=0)
    updates: int = Field(1000, ge=0)
    share: float = Field(0.5, ge=0, le=1, description="Of the records of a table, how much may be altered.")


class Config(Part):
    """The whole file."""

    format: Literal[1]
    systems: dict[Slug, System] = Field(default_factory=dict)
    reconcile: Reconcile = Field(default_factory=Reconcile)
    sync: dict[Slug, SyncTarget] = Field(default_factory=dict)
    guards: Guards = Field(default_factory=Guards)


def load(root: Path) -> Config:
    """The configuration in ``root``; every fault with its line and key."""
    document = read_yaml(root / FILE)
    config = check(document, Config, str(root / FILE))
    faults = [*_unknown_systems(document, config), *_bad_filters(document, config)]
    if faults:
        raise DocumentError(str(root / FILE), faults)
    return config


def check_credentials(system: System, dialect: Dialect, name: str, root: Path) -> None:
    """Raise DocumentError where a system lacks a credential, or a secret is written in the file."""
    document: Any = read_yaml(root / FILE)
    faults = []
    for wanted, spec in dialect.credentials.items():
        place = ("systems", name, "credentials", wanted)
        given = system.credentials.get(wanted)
        if given is None:
            faults.append((line_of(document, place), ".".join(place), f"is missing: {spec.about}"))
        elif spec.secret and not is_reference(given):
            text = f"is a secret: say where it is kept, with one of {', '.join(f'{s}:' for s in SCHEMES)}"
            faults.append((line_of(document, place), ".".join(place), text))
    for given in set(system.credentials) - set(dialect.credentials):
        place = ("systems", name, "credentials", given)
        known = ", ".join(dialect.credentials) or "none"
        text = f"the dialect {dialect.name} knows no such credential; it knows: {known}"
        faults.append((line_of(document, place), ".".join(place), text))
    if faults:
        raise DocumentError(str(root / FILE), sorted(faults))


def _bad_filters(document: Any, config: Config) -> list[tuple[int, str, str]]:
    """Filters that cannot be meant: told when the file is read, not when they are used."""
    filters: list[tuple[tuple[str, ...], str | None]] = [(("reconcile", "at_rest"), config.reconcile.at_rest)]
    filters += [(("sync", name, "where"), rule.where) for name, rule in config.sync.items()]
    faults = []
    for place, text in filters:
        try:
            if text is not None:
                Binder(parse(text), ASKABLE, datetime.now(UTC), extra=False).check()
        except QueryError as error:
            told = f"{error}".replace("\n", "\n  ") + (f"\n      {error.advice}" if error.advice else "")
            faults.append((line_of(document, place), dotted(document, place), told))
    return faults


def _unknown_systems(document: Any, config: Config) -> list[tuple[int, str, str]]:
    places: list[tuple[tuple[str | int, ...], str]] = [
        (("reconcile", "prefer", at), name) for at, name in enumerate(config.reconcile.prefer)
    ]
    for field, names in config.reconcile.fields.items():
        places += [(("reconcile", "fields", field, at), name) for at, name in enumerate(names)]
    places += [(("sync", name), name) for name in config.sync]
    return [
        (line_of(document, place), dotted(document, place), f"there is no system {name!r} above")
        for place, name in places
        if name not in config.systems
    ]
