"""Making the concordance: from the newest snapshots, what was decided, and what was known before."""

from __future__ import annotations

import hashlib
import json
import secrets
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import TYPE_CHECKING, Any

import numpy as np
import polars as pl

from concordex.errors import CalledWrongly, Stopped, StoreError
from concordex.match.concordance import PARTS, Concordance, Keep, Rules, reconcile
from concordex.match.coverage import coverage, moves
from concordex.match.finding import Scope
from concordex.match.findings import aged, in_order
from concordex.match.incremental import reconcile_again
from concordex.match.learned import FRAMES, Learned
from concordex.progress import Counted
from concordex.work.concordance import inputs, last
from concordex.work.concordance.rulings import Ruling, holding
from concordex.work.concordance.stored import entry_of, is_current, read
from concordex.work.fleet.faults import FLEET, faults
from concordex.work.workspace.repair import newest as undamaged

if TYPE_CHECKING:
    from concordex.store.catalogue import Snapshot
    from concordex.work.workspace.base import BaseWorkspace


#: A concordance that was begun so long ago, and is none yet, was killed.
_ABANDONED = timedelta(days=1)

#: What tells one finding from another, from one time to the next.
_SAME = ["kind", "entry", "field", "about"]


@dataclass(frozen=True, kw_only=True)
class Summary:
    """What a reconciliation came to, and what is otherwise than the last time."""

    records: int
    entries: int
    systems: dict[str, dict[str, Any]]
    findings: dict[str, int]
    changes: dict[str, int]
    doubts: list[str]
    #: How many records could have become otherwise since last time; all, where all were reconciled.
    looked_at: int


def make(workspace: BaseWorkspace, progress: Counted = lambda _done, _of: None, *, relearn: bool = False) -> Summary:
    """Reconcile the newest device snapshots of all systems, and keep the result.

    Where little changed, only that is looked at.  What was learned of the evidence holds until the
    records have changed a good deal, or ``relearn``.
    """
    workspace.allowed.require("see")
    kept, damaged = undamaged(workspace, "devices")
    snapshots = [s for s in kept if s.system in workspace.config.systems]
    snapshots, told = inputs.not_forgotten(workspace, snapshots)
    damaged = [*damaged, *told]
    if not snapshots:
        why = "all of them are left out by reconcile: forget_after" if told else ""
        raise CalledWrongly("there is no snapshot of devices", why=why, advice="concordex pull")
    rules, resting = inputs.rules(workspace, snapshots), inputs.resting(workspace)
    basis = _basis(workspace, snapshots, rules, resting)
    if not relearn and _stands(workspace, basis):
        return _aged(workspace, rules, snapshots, damaged)
    progress(1, 3)
    height = workspace.frames.together(snapshots).select(pl.len()).collect().item()
    learned = None if relearn else last.learned(workspace, height)
    folder = _next_folder(workspace)
    with workspace.frames.passing(folder) as keep:
        made = _again(workspace, snapshots, rules, resting, keep) if learned else None
        made = made or reconcile(
            inputs.records(workspace, snapshots), rules, last.members_before(workspace), resting, learned, keep
        )
        every = in_order(pl.concat([made.findings, faults(workspace, made.members)]))
        made = replace(made, findings=followed(workspace, every, made.members.lazy()))
        keep("findings", made.findings)
        for name, frame in made.learned.frames().items():
            keep(name, frame)
        progress(2, 3)
        summary = _summary(workspace, made, snapshots)
        summary = replace(summary, doubts=[*damaged, *summary.doubts])
    row = workspace.catalogue.reconciliation()
    since = json.loads(row["summary"]).get("learned_at") if row and learned else None
    summed = {
        "records": summary.records, "entries": summary.entries, "findings": summary.findings,
        "systems": summary.systems, "learned_at": since or summary.records, "settings": inputs.settings(rules),
        "basis": basis,
    }  # fmt: skip
    _enter(workspace, folder, made.findings, snapshots, summed)
    return summary


def freshened(workspace: BaseWorkspace) -> list[str]:
    """Reconcile when something was pulled since, or never was."""
    if workspace.memory.reconciliation() and is_current(workspace):
        return []
    make(workspace)
    return ["reconciled first: something was pulled since the last time"]


def _anew(
    workspace: BaseWorkspace, snapshots: list[Snapshot], rules: Rules, resting: pl.Expr | None,
    learned: Learned | None, keep: Keep,
) -> Concordance:  # fmt: skip
    before = last.members_before(workspace)
    return reconcile(inputs.records(workspace, snapshots), rules, before, resting, learned, keep)


def _again(
    workspace: BaseWorkspace, snapshots: list[Snapshot], rules: Rules, resting: pl.Expr | None, keep: Keep
) -> Concordance | None:
    """What the last concordance makes quicker; nothing where it cannot help."""
    try:
        before = last.concordance(workspace, rules)
        if before is None:
            return None
        return reconcile_again(inputs.records(workspace, snapshots), rules, before, resting, keep=keep)
    except StoreError:  # another process has made a newer one, and taken this one away
        return None


def _basis(workspace: BaseWorkspace, snapshots: list[Snapshot], rules: Rules, resting: pl.Expr | None) -> str | None:
    """A short text that is another whenever anything but the time might make the concordance another one.

    Nothing where some of it is damaged, or was pulled by an earlier release.
    """
    sound = workspace.frames.damage
    contents = [
        (s.system, s.whole, workspace.frames.content_of(s.file) if s.file and sound(s.file) is None else None)
        for s in snapshots
    ]
    if any(content is None for _, _, content in contents):
        return None
    scope = rules.scope
    ground = (
        inputs.settings(rules), sorted(contents), [*scope.inventories], [*scope.managers],
        scope.all_managers, scope.staged,
        sorted((name, where.meta.serialize()) for name, where in scope.expected.items()),
        resting.meta.serialize() if resting is not None else None, rules.rulings,
        sorted(map(repr, workspace.memory.references())),
    )  # fmt: skip
    return hashlib.sha256(repr(ground).encode()).hexdigest()


def _stands(workspace: BaseWorkspace, basis: str | None) -> bool:
    """Whether the last concordance rests on the same, and all of it is there."""
    row = workspace.memory.reconciliation()
    if row is None or basis is None or json.loads(row["summary"]).get("basis") != basis:
        return False
    last.vet(workspace, (*PARTS, *FRAMES))
    return all(last.has(workspace, name) for name in (*PARTS, *FRAMES))


def _aged(workspace: BaseWorkspace, rules: Rules, snapshots: list[Snapshot], damaged: list[str]) -> Summary:
    """The last concordance once more, for snapshots that say the same: what is stale, new or accepted may differ."""
    row = workspace.memory.reconciliation()
    assert row is not None
    summed = json.loads(row["summary"])
    findings = _findings_by_now(workspace, rules.scope)
    summary = Summary(
        records=summed["records"], entries=summed["entries"], systems=summed["systems"], changes={}, looked_at=0,
        findings=summed["findings"] if findings is None else _counted(findings),
        doubts=[*damaged, *_doubts(snapshots)],
    )  # fmt: skip
    folder = _next_folder(workspace)
    with workspace.frames.passing(folder) as keep:
        if findings is not None:
            keep("findings", findings)
    row = workspace.catalogue.reconciliation()
    for name in (*PARTS, *FRAMES):
        if row and (name != "findings" or findings is None):
            workspace.frames.share(f"{row['folder']}/{name}.parquet", f"{folder}/{name}.parquet")
    _enter(workspace, folder, findings, snapshots, summed | {"findings": summary.findings})
    return summary


def _findings_by_now(workspace: BaseWorkspace, scope: Scope) -> pl.DataFrame | None:
    """The findings of last time, as they are where nothing but the time, racks and links have changed; none where they
    are the same."""
    members = entry_of(workspace)
    fleet, before = in_order(faults(workspace, members.collect())), read(workspace, "findings")
    own = pl.col("kind").is_in(FLEET)
    if not fleet.equals(before.filter(own).select(fleet.columns).collect()):
        rest = before.filter(own.not_()).select(fleet.columns).collect()
        return followed(workspace, aged(in_order(pl.concat([rest, fleet])), _old(workspace, scope), scope), members)
    return _aged_alone(workspace, scope)


def _old(workspace: BaseWorkspace, scope: Scope) -> pl.DataFrame:
    """Entries that are stale by now."""
    old = read(workspace, "entries").filter(pl.col("last_seen") < scope.stale_before)
    return old.select("entry", "name", "systems", "last_seen").collect()


def _aged_alone(workspace: BaseWorkspace, scope: Scope) -> pl.DataFrame | None:
    """The same, where nothing but the time has changed."""
    entries = _old(workspace, scope)
    earlier = read(workspace, "findings")
    stale = earlier.filter(pl.col("kind") == "stale").collect()
    by_now = aged(stale, entries, scope)
    same = by_now.equals(stale.select(by_now.columns))
    if any(ruling.accept for ruling in holding(workspace)) or (stale.is_empty() and not same):
        return followed(workspace, aged(earlier.collect(), entries, scope), read(workspace, "members"))
    if same:
        return _all_known(earlier.collect()) if _is_open(earlier) else None
    return _with_stale(_all_known(earlier.collect()), _marked(by_now, stale))


def _with_stale(findings: pl.DataFrame, stale: pl.DataFrame) -> pl.DataFrame:
    """``findings`` with others that are ``stale`` in the place of those that were: they stand together."""
    rows = findings.select((pl.col("kind") == "stale").arg_true()).to_series()
    before, after = findings[: int(rows[0])], findings[int(rows[-1]) + 1 :]
    stale = stale.with_columns(accepted=before["accepted"].clear(len(stale)))
    return pl.concat([before, stale.select(before.columns), after])


def _all_known(findings: pl.DataFrame) -> pl.DataFrame:
    """The findings of last time once more, of which none is accepted any longer."""
    return findings.with_columns(
        pl.lit("known").alias("state"), pl.lit(None, dtype=findings.schema["accepted"]).alias("accepted")
    )


def _is_open(findings: pl.LazyFrame) -> bool:
    """Whether what some say of themselves cannot stand another time: that they are new, or were accepted."""
    open_to = (pl.col("state") != "known") | pl.col("accepted").is_not_null()
    return bool(findings.select(open_to.any()).collect().item())


def followed(workspace: BaseWorkspace, findings: pl.DataFrame, members: pl.LazyFrame) -> pl.DataFrame:
    """The findings with what became of them: ``state`` (new or known) and the reason why one was ``accepted``."""
    known = _found_before(workspace)
    findings = findings.with_columns(pl.lit("new").alias("state")) if known is None else _marked(findings, known)
    accepted = [
        (r.accept.finding, r.accept.of, r.accept.field, r.accept.about, _reason(r))
        for r in holding(workspace)
        if r.accept
    ]
    schema = dict.fromkeys(["kind", "ref", "field", "about", "accepted"], pl.String)
    reasons = pl.DataFrame(accepted, schema=schema, orient="row")
    refs = pl.DataFrame(schema={"ref": pl.String, "entry": pl.String})
    if accepted:
        refs = members.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry").collect()
    reasons = reasons.join(refs, on="ref", how="left").filter(pl.col("ref").is_null() | pl.col("entry").is_not_null())
    reasons = reasons.drop("ref").unique(_SAME, keep="last")
    return findings.join(reasons, on=_SAME, how="left", nulls_equal=True, maintain_order="left")


def _marked(findings: pl.DataFrame, known: pl.DataFrame) -> pl.DataFrame:
    """The findings with their ``state``: whether they are among those that are ``known``, or new."""
    marked = known.select(_SAME).unique().with_columns(pl.lit("known").alias("state"))
    findings = findings.join(marked, on=_SAME, how="left", nulls_equal=True, maintain_order="left")
    return findings.with_columns(pl.col("state").fill_null("new"))


def _found_before(workspace: BaseWorkspace) -> pl.DataFrame | None:
    """What tells the findings of the last time apart; none where an earlier release did not keep it."""
    if not last.has(workspace, "findings"):
        return None
    findings = read(workspace, "findings")
    return findings.select(_SAME).collect() if set(_SAME) <= set(findings.collect_schema()) else None


def _reason(ruling: Ruling) -> str:
    until = f", until {ruling.until}" if ruling.until else ""
    return f"{ruling.why or 'accepted'} ({ruling.who}{until})"


def _summary(workspace: BaseWorkspace, made: Concordance, snapshots: list[Snapshot]) -> Summary:
    stated = inputs.stated(workspace)
    scopes = {name: inputs.filter_of(workspace, text) for name, text in stated.items()}
    systems = coverage(made.members, made.entries, scopes, made.agreement)
    changes = {}
    if made.was is not None and last.has(workspace, "members"):
        before = read(workspace, "members").select("entry").collect()["entry"]
        changes = moves(made.was, made.members["entry"], before)
    return Summary(
        records=made.members.height, entries=made.entries.height, systems=systems,
        findings=_counted(made.findings), doubts=_doubts(snapshots), changes=changes, looked_at=made.looked_at,
    )  # fmt: skip


def _counted(findings: pl.DataFrame) -> dict[str, int]:
    """How many there are of each kind that nobody accepted, the most frequent first."""
    counts = findings.filter(pl.col("accepted").is_null()).group_by("kind").len()
    return dict(counts.sort(["len", "kind"], descending=[True, False]).iter_rows())


def _doubts(snapshots: list[Snapshot]) -> list[str]:
    return [
        f"{s.system} is {s.outcome} ({s.fault}): nothing is called missing because of it"
        for s in snapshots
        if not s.whole
    ]


def _next_folder(workspace: BaseWorkspace) -> str:
    """Where the frames of the next concordance are kept; another, made at the same time, is kept elsewhere."""
    row = workspace.catalogue.reconciliation()
    return f"concordance/{(row['id'] if row else 0) + 1:06d}-{secrets.token_hex(4)}"


def _ended(earlier: pl.LazyFrame, findings: pl.DataFrame) -> pl.DataFrame:
    """The findings of last time that are there no more."""
    keys = earlier.select(_SAME).collect()
    there = pl.Series(np.isin(keys.hash_rows(seed=17), findings.select(_SAME).hash_rows(seed=17)))
    return earlier.with_columns(there.alias("there")).filter(pl.col("there").not_()).drop("there").collect()


def _enter(
    workspace: BaseWorkspace,
    folder: str,
    findings: pl.DataFrame | None,
    snapshots: list[Snapshot],
    summed: dict[str, Any],
) -> None:
    """Let the concordance in ``folder`` be the newest, and the one before it be forgotten.

    Its ``findings`` are those of the one before where there are none.
    """
    row = workspace.catalogue.reconciliation()
    if row and last.has(workspace, "findings"):
        earlier = read(workspace, "findings")
        if set(_SAME) <= set(earlier.collect_schema()):
            same = findings is None or findings.select(_SAME).equals(earlier.select(_SAME).collect())
            ended = earlier.limit(0).collect() if findings is None or same else _ended(earlier, findings)
            workspace.frames.write(ended, f"{folder}/gone.parquet")
    numbers = [s.id for s in snapshots if s.id]
    if not workspace.catalogue.add_reconciliation(folder, numbers, {s.system for s in snapshots}, summed):
        workspace.frames.forget(folder)
        raise Stopped("a system was renamed while its records were reconciled", advice="concordex reconcile")
    if row:  # the one before is superseded; nothing refers to it any more
        workspace.frames.forget(str(row["folder"]))
    workspace.frames.sweep("concordance", workspace.now() - _ABANDONED)
