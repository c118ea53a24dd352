"""What a concordance is made of: records, rules, and what both depend on."""

from __future__ import annotations

import hashlib
from datetime import timedelta
from typing import TYPE_CHECKING

import polars as pl

from concordex.match.concordance import Rules
from concordex.match.finding import Scope, Staged
from concordex.model.fields import ASKABLE, FIELDS, ORIGINAL
from concordex.model.scalars import parse_duration
from concordex.query.predicate import predicate
from concordex.version import __version__
from concordex.words import plural
from concordex.work.concordance.rulings import for_matching, holding
from concordex.work.workspace.rules import FieldRule

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace

#: Counted up when what is kept of a concordance takes another form.
_FORM = 3
#: What is left out by its age is told beforehand, once it has this share of that age.
_SOON = 0.75


def records(workspace: BaseWorkspace, snapshots: list[Snapshot]) -> pl.DataFrame:
    """All device records with all common fields, and the reference that our own writes left behind."""
    lazy = workspace.frames.together(sorted(snapshots, key=lambda s: s.system))  # as they are numbered
    schema = lazy.collect_schema()
    absent = [pl.lit(None, dtype=t.dtype).alias(n) for n, t in FIELDS.items() if n not in schema]
    frame = lazy.with_columns(absent).drop(ORIGINAL, strict=False).collect()
    made = workspace.memory.references()
    origin = pl.col("origin") if "origin" in frame.columns else pl.lit(None, dtype=pl.String)
    if not made:
        return frame.with_columns(origin.alias("reference"))
    kept = pl.DataFrame(
        [(row["system"], row["record_id"], row["source"]) for row in made],
        schema={"system": pl.String, "record_id": pl.String, "kept": pl.String}, orient="row",
    )  # fmt: skip
    joined = frame.join(kept, on=["system", "record_id"], how="left", maintain_order="left")
    return joined.with_columns(pl.coalesce(origin, "kept").alias("reference")).drop("kept")


def resting(workspace: BaseWorkspace) -> pl.Expr | None:
    """What no manager is expected to know."""
    text = workspace.config.reconcile.at_rest
    return None if text is None else filter_of(workspace, text)


def not_forgotten(workspace: BaseWorkspace, snapshots: list[Snapshot]) -> tuple[list[Snapshot], list[str]]:
    """The snapshots that the workspace's rule does not leave out by their age, and what is told of the others.

    What will be left out soon is told beforehand, from the last quarter of its time on.
    """
    rule = workspace.config.reconcile.forget_after
    most = parse_duration(rule) if rule else None
    if most is None:
        return snapshots, []
    kept, told, now = [], [], workspace.now()
    for snapshot in snapshots:
        age, days = now - snapshot.taken, f"{(now - snapshot.taken).days} d"
        if age <= most:
            kept.append(snapshot)
        if age > most:
            told.append(
                f"{snapshot.system} has returned nothing for {days}: {plural(snapshot.distinct, 'record')} left out"
                f" (forget_after: {rule})"
            )
        elif age > most * _SOON:
            told.append(
                f"{snapshot.system} has returned nothing for {days}: from {snapshot.taken + most:%Y-%m-%d} on"
                f" {plural(snapshot.distinct, 'record')} left out (forget_after: {rule})"
            )
    return kept, told


def filter_of(workspace: BaseWorkspace, text: str) -> pl.Expr:
    """A filter on the common fields."""
    return predicate(workspace.query(text), ASKABLE, workspace.now())


def rules(workspace: BaseWorkspace, snapshots: list[Snapshot]) -> Rules:
    """How records become entries by the workspace, and which systems can be believed to lack one."""
    config = workspace.config.reconcile
    names = list(workspace.config.systems)
    managers = [name for name in names if workspace.role(name) == "manager"]
    inventories = [name for name in names if workspace.role(name) == "inventory"]
    whole = {snapshot.system for snapshot in snapshots if snapshot.whole}
    order = [*config.prefer, *(n for n in [*managers, *inventories] if n not in config.prefer)]
    tables = {name: "devices" in workspace.dialect(name).tables for name in managers}
    scope = Scope(
        inventories=[name for name in inventories if name in whole],
        managers=[name for name in managers if name in whole],
        all_managers=all(name in whole for name in managers if tables[name]),
        stale_before=workspace.now() - (parse_duration(config.stale_after) or timedelta.max),
        expected={name: filter_of(workspace, text) for name, text in stated(workspace).items()},
        staged=[Staged(**row) for row in workspace.catalogue.staged() if row["system"] in names],
    )
    by_field = {name: rule.chosen if isinstance(rule, FieldRule) else rule for name, rule in config.fields.items()}
    return Rules(
        order=order, scope=scope, by_field=by_field, placeholders=config.placeholders,
        rulings=for_matching(holding(workspace)),
    )  # fmt: skip


def stated(workspace: BaseWorkspace) -> dict[str, str]:
    """For which devices a system is there, where somebody said so."""
    config = workspace.config
    synced = {name: rule.where for name, rule in config.sync.items() if rule.where}
    return synced | {name: system.knows for name, system in config.systems.items() if system.knows}


def settings(rules: Rules) -> str:
    """A short text that is another whenever records that did not change might come out otherwise."""
    settings = (
        __version__,
        _FORM,
        pl.__version__,
        [*rules.order],
        sorted(rules.by_field.items()),
        [*rules.placeholders],
    )
    return hashlib.sha256(repr(settings).encode()).hexdigest()
