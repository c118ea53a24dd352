"""Preparing edits of records that are there: fields set, retired, deleted, acted upon."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from concordex.change.compare import same
from concordex.change.prepare import prepare
from concordex.change.reasons import Why, because
from concordex.change.rows import Row, check_rows, columns_of, read_values
from concordex.change.steps import Change, Step, numbered
from concordex.errors import CalledWrongly
from concordex.words import suggestion
from concordex.work.change.basis import Basis, base_of, selected
from concordex.work.change.push import limits_of, target_of, unnamed_secrets

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def prepare_set(
    workspace: BaseWorkspace,
    system: str,
    table: str,
    selection: str,
    values: Mapping[str, str],
    make: Sequence[str] = (),
) -> Change:
    """The change that gives fields of the records in ``selection`` the values ``values``; none empties a field."""
    base = base_of(workspace, system, table)
    if not base.fields:
        raise CalledWrongly(f"{system} lets no field be set in {table}", advice=_offered(base))
    records = selected(workspace, base, selection)
    desired = _values(workspace, base, values, make)
    rows = list(records.iter_rows(named=True))
    stands = base.write.stands
    if stands and desired.keys() & {stands.rack, stands.at, stands.face}:
        why = base.misplaced([(row["record_id"], {**row, **desired}) for row in rows])
        bad = [(row.get("name") or row["record_id"], no) for row, no in zip(rows, why, strict=True) if no]
        if bad:
            raise CalledWrongly("\n".join(f"{name}: its place {no}" for name, no in bad))
    shown = [name for name in desired if name not in base.unread]
    updates = [
        _step(base, row, "update", before={n: row.get(n) for n in shown}, desired=desired)
        for row in records.iter_rows(named=True)
        if len(shown) < len(desired) or not all(same(row.get(name), value) for name, value in desired.items())
    ]
    held = [replace(s, operation="report", state="held", why=because(Why.CANNOT, what="update"))
            for s in updates] if base.write.update is None else updates  # fmt: skip
    return prepare("set", system, table, [], held, base.forms, base.known)


def _offered(base: Basis) -> str:
    """What may be done to the records of a table."""
    may = {"set": base.write.update, "retire": base.write.retire, "delete": base.write.delete}
    words = [word for word, how in may.items() if how]
    if base.write.actions:
        words.append(f"action ({', '.join(base.write.actions)})")
    return f"it offers: {', '.join(words)}" if words else "it offers nothing that alters what is there"


def _values(workspace: BaseWorkspace, base: Basis, texts: Mapping[str, str], make: Sequence[str]) -> dict[str, Any]:
    """The values as the fields' types have them; every mistake at once."""
    meant, mistakes = columns_of(list(texts), base.fields, {})
    rows, unread = read_values([Row(place="", typed=texts)], meant, base.fields, limits_of(base))
    target = target_of(workspace, base, make)
    referring = {ours for link in target.form.links for ours in link.by.values()}
    checked, wrong = rows, list[Any]()
    if referring & set(rows[0].values):
        # only its references are looked at: whose record it is, is another matter
        values = {name: value for name, value in rows[0].values.items() if name in referring}
        form = replace(target.form, keys=[sorted(referring)], unique=(), required=())
        checked, wrong = check_rows([replace(rows[0], values=values)], replace(target, form=form))
    mistakes += [*unread, *wrong, *unnamed_secrets(base.write, rows)]
    if mistakes:
        text = "; ".join(f"{mistake.column}={mistake.value} {mistake.what}" for mistake in mistakes)
        raise CalledWrongly(text, advice=f"concordex dialect show {base.dialect.name}")
    empty = {meant[name]: None for name, value in texts.items() if value == ""}
    return {**rows[0].values, **checked[0].values, **empty}


def prepare_retire(workspace: BaseWorkspace, system: str, table: str, selection: str) -> Change:
    """The change that sets records to what the dialect calls retired."""
    base = base_of(workspace, system, table)
    if not base.write.retire:
        raise CalledWrongly(f"{system} has no retired state in {table}", advice=_offered(base))
    texts = {name: str(value) for name, value in base.write.retire.items()}
    made = prepare_set(workspace, system, table, selection, texts)
    steps = tuple(replace(step, action="retire") if step.operation == "update" else step for step in made.steps)
    return replace(made, kind="retire", steps=steps)


def prepare_delete(workspace: BaseWorkspace, system: str, table: str, selection: str) -> Change:
    """The change that deletes records, with all that can be written of them kept to undo it."""
    base = base_of(workspace, system, table)
    if base.write.delete is None:
        raise CalledWrongly(f"{system} does not allow deleting from {table}", advice=_offered(base))
    records = selected(workspace, base, selection)
    return _change(
        "delete", system, [_step(base, r, "delete", before=base.image(r)) for r in records.iter_rows(named=True)]
    )


def prepare_action(workspace: BaseWorkspace, system: str, table: str, name: str, selection: str) -> Change:
    """The change that does to records what the dialect calls ``name``."""
    base = base_of(workspace, system, table)
    if name not in base.write.actions:
        raise CalledWrongly(
            f"{system} offers no {name!r} for {table}",
            advice=suggestion(name, base.write.actions) if base.write.actions else "it offers nothing of the kind",
        )
    records = selected(workspace, base, selection)
    steps = [replace(_step(base, row, "action"), action=name) for row in records.iter_rows(named=True)]
    return _change("action", system, steps).described(irreversible=base.write.actions[name].irreversible)


def _step(base: Basis, row: Mapping[str, Any], action: Any, **more: Any) -> Step:
    label = str(row.get("name") or row.get("serial") or row["record_id"])
    return Step(
        number=0, table=base.table, operation=action, label=label, key=base.key(row), record_id=row["record_id"], **more
    )


def _change(kind: str, system: str, steps: Sequence[Step]) -> Change:
    return Change(kind=kind, system=system, steps=numbered(steps))
