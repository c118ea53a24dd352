"""The whole of ``concordex.yaml``: systems, and the rules of the house."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field

from concordex.documents import Part, Slug, check, dotted, line_of, quickly, read_yaml
from concordex.errors import DocumentError, QueryError
from concordex.model.fields import ASKABLE
from concordex.query.bind import Binder
from concordex.query.groups import Group, parsed
from concordex.work.workspace.groups import groups
from concordex.work.workspace.job_settings import Job, Timetable
from concordex.work.workspace.job_settings import faults_of as faults_of_jobs
from concordex.work.workspace.rights_settings import Rights
from concordex.work.workspace.rules import (
    DriftRules,
    Falls,
    FieldRule,
    Guards,
    HealthRules,
    Into,
    Keep,
    Reconcile,
    SyncTarget,
)
from concordex.work.workspace.secret_sources import SCHEMES, is_reference
from concordex.work.workspace.store_settings import Store
from concordex.work.workspace.system_settings import Devices, Settings, System
from concordex.work.workspace.tell_settings import Place

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect

FILE = "concordex.yaml"


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
    store: Store = Field(default_factory=Store)
    keep: Keep = Field(default_factory=Keep)
    falls: Falls = Field(default_factory=Falls)
    health: HealthRules = Field(default_factory=HealthRules)
    timetable: Timetable = Field(default_factory=Timetable)
    jobs: dict[Slug, Job] = Field(default_factory=dict)
    tell: dict[Slug, Place] = Field(default_factory=dict)
    rights: Rights | None = None


def load(root: Path) -> WorkspaceConfig:
    """The configuration in ``root``; every fault with its line and key."""
    return quickly(root / FILE, partial(check_whole, root))


def check_whole(root: Path, document: Any) -> WorkspaceConfig:
    """The configuration that a document is; every fault with its line and key."""
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


def _in_rights(config: WorkspaceConfig) -> list[tuple[tuple[str | int, ...], str]]:
    """Systems that rights name and that are not there."""
    if config.rights is None:
        return []
    some: list[tuple[tuple[str | int, ...], list[str]]] = [
        (("rights", "people", name), grant.systems)
        for name, person in config.rights.people.items()
        for grant in person.grants
    ]
    if config.rights.second_person:
        some.append((("rights", "second_person", "systems"), config.rights.second_person.systems))
    known = {*config.systems, *config.devices, *config.targets}
    return [(place, name) for place, names in some for name in names if name not in known]


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
    faults = [(place, f"there is no system {name!r} above") for place, name in places if name not in config.systems]
    faults += faults_of_jobs(config.jobs, config.systems)
    faults += [(place, f"there is no system {name!r} above") for place, name in _in_rights(config)]
    faults += [
        (("tell", name, "jobs", at), f"there is no job {job!r}")
        for name, place in config.tell.items()
        for at, job in enumerate(place.jobs)
        if job not in config.jobs
    ]
    return [(line_of(document, place), dotted(document, place), text) for place, text in faults]
