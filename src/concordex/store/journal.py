"""The journal of changes: every step is written down before it is sent and after."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

import orjson

from concordex.change.about import About
from concordex.change.reasons import Reason, Reasons, Why, because, from_text, to_text
from concordex.change.steps import Change, Outcome, Step
from concordex.errors import CalledWrongly, Stopped
from concordex.store.database import Database, DatabaseRow
from concordex.store.earlier import check_today
from concordex.unseen import fit_to_keep, in_data, may_tell

_WORDS = tuple(Why)

#: How many changes are named where one is not there.
_TOLD = 5


class Journal:
    """Changes and their steps in the catalogue."""

    def __init__(self, database: Database) -> None:
        check_today(database)
        self._database = database

    def keep(self, change: Change) -> Change:
        """Write down a prepared change; the same, with its number."""
        about = replace(change.about, token=str(uuid4())).document()  # its own: a change from a file is another one
        with self._database.atomic():
            number = self._database.insert(
                "INSERT INTO changes (made, kind, system, state, about) VALUES (?, ?, ?, 'draft', ?)",
                (_now(), change.kind, change.system, json.dumps(about)),
            )
            self._database.run_many(
                "INSERT INTO steps (change, number, name, operation, label, body, state, reason, record_id)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    (
                        number,
                        s.number,
                        s.table,
                        s.operation,
                        s.label,
                        _text(s.body()),
                        s.state,
                        _why_kept(s.why),
                        s.record_id,
                    )
                    for s in change.steps
                ),
            )
        return self.change(number)

    def system_of(self, number: int) -> str:
        """The system that the change of that number is for."""
        return str(self._row(number)["system"])

    def _row(self, number: int) -> DatabaseRow:
        rows = self._database.rows("SELECT * FROM changes WHERE id = ?", (number,))
        if not rows:
            known = [row["id"] for row in self.changes()]
            newest = ", ".join(map(str, known[:_TOLD])) + (", …" if len(known) > _TOLD else "")
            advice = f"there is: {newest}; concordex change list" if known else "there is none yet"
            raise CalledWrongly(f"there is no change {number}", advice=advice)
        return rows[0]

    def change(self, number: int) -> Change:
        """The change of that number, with its steps as they stand."""
        row = self._row(number)
        steps = self._database.rows("SELECT * FROM steps WHERE change = ? ORDER BY number", (number,))
        return Change(
            number=number, kind=row["kind"], system=row["system"], state=row["state"],
            about=About.of(json.loads(row.get("about") or "{}")), steps=tuple(map(_step, steps)),
        )  # fmt: skip

    def changes(self) -> list[DatabaseRow]:
        """All changes, newest first, with how many steps stand where."""
        rows = self._database.rows("SELECT * FROM changes ORDER BY id DESC")
        sql = "SELECT change, state, COUNT(*) AS steps FROM steps GROUP BY change, state"
        counts: dict[int, dict[str, int]] = {}
        for row in self._database.rows(sql):
            counts.setdefault(row["change"], {})[row["state"]] = row["steps"]
        return [
            {**row, "about": json.loads(row.get("about") or "{}"), "steps": counts.get(row["id"], {})} for row in rows
        ]

    def begin(self, number: int, process: int) -> None:
        """Take the change for this process, which holds the lock of its system: whoever had it before is gone."""
        taken = self._database.run(
            "UPDATE changes SET state = 'running', begun = ?, process = ? WHERE id = ?"
            " AND state NOT IN ('done', 'dropped')",
            (_now(), process, number),
        )
        if not taken:
            raise Stopped(
                f"change {number} was done or dropped by another process meanwhile",
                advice=f"concordex change show {number}",
            )

    def note(self, number: int, **facts: Any) -> None:
        """Write down more of what is to be known of a change, such as how a run was asked for."""
        (row,) = self._database.rows("SELECT about FROM changes WHERE id = ?", (number,))
        about = replace(About.of(json.loads(row["about"] or "{}")), **facts).document()
        self._database.run("UPDATE changes SET about = ? WHERE id = ?", (json.dumps(about), number))

    def end(self, number: int, state: str) -> None:
        """Note how a run ended."""
        self._database.run("UPDATE changes SET state = ?, ended = ? WHERE id = ?", (state, _now(), number))

    def mark_sent(self, number: int, steps: Sequence[Step]) -> None:
        """Write down that these steps are about to be sent: durable before the first byte leaves."""
        moment = _now()
        with self._database.atomic():
            self._database.run_many(
                "UPDATE steps SET state = 'sent', sent = ?, ours = 1 WHERE change = ? AND number = ?",
                ((moment, number, step.number) for step in steps),
            )

    def written(self, system: str, table: str) -> dict[str, dict[str, Any]]:
        """What was last written of each record, by its id, field by field, as it was read back."""
        rows = self._database.rows(
            "SELECT steps.record_id AS record_id, steps.body AS body, steps.became AS became FROM steps"
            " JOIN changes ON changes.id = steps.change WHERE changes.system = ? AND steps.name = ?"
            " AND steps.state = 'confirmed' AND steps.sent IS NOT NULL AND COALESCE(steps.ours, 1)"
            " AND steps.record_id IS NOT NULL"
            " ORDER BY steps.answered, steps.change, steps.number",
            (system, table),
        )
        values: dict[str, dict[str, Any]] = {}
        for row in rows:
            last = {**orjson.loads(row["body"])["desired"], **orjson.loads(row["became"] or "{}")}
            values.setdefault(row["record_id"], {}).update(last)
        return values

    def when_written(self, system: str, table: str) -> dict[str, dict[str, tuple[int, str]]]:
        """By which change, and when, each field of each record was last written, by the record's id."""
        rows = self._database.rows(
            "SELECT steps.record_id AS record_id, steps.body AS body, steps.change AS number, steps.sent AS sent"
            " FROM steps JOIN changes ON changes.id = steps.change WHERE changes.system = ? AND steps.name = ?"
            " AND steps.state = 'confirmed' AND steps.sent IS NOT NULL AND COALESCE(steps.ours, 1)"
            " AND steps.record_id IS NOT NULL ORDER BY steps.answered, steps.change, steps.number",
            (system, table),
        )
        moments: dict[str, dict[str, tuple[int, str]]] = {}
        for row in rows:
            names = orjson.loads(row["body"])["desired"]
            moments.setdefault(row["record_id"], {}).update(dict.fromkeys(names, (row["number"], row["sent"])))
        return moments

    def drop(self, number: int) -> None:
        """Put a change aside for good; what it has written stays as it is."""
        self._database.run("UPDATE changes SET state = 'dropped', ended = ? WHERE id = ?", (_now(), number))

    def kept(self, number: int, read_back: Iterable[tuple[Step, dict[str, Any], dict[str, Any]]]) -> None:
        """Write down what was read back of the fields of steps, and of their whole records what an undo rests on."""
        with self._database.atomic():
            self._database.run_many(
                "UPDATE steps SET became = ?, whole = ? WHERE change = ? AND number = ?",
                ((_text(became), _text(whole), number, step.number) for step, became, whole in read_back),
            )

    def entries(self, number: int | None = None) -> list[DatabaseRow]:
        """Every step that left here, the newest first: when, of which change, what, and what came of it."""
        rows = self._database.rows(
            "SELECT steps.*, changes.kind AS kind, changes.system AS system, changes.about AS about FROM steps"
            " JOIN changes ON changes.id = steps.change WHERE sent IS NOT NULL AND (? IS NULL OR change = ?)"
            " ORDER BY sent DESC, change DESC, number DESC",
            (number, number),
        )
        return [{**row, "about": json.loads(row.get("about") or "{}"), "why": _why(row)} for row in rows]

    def settled(self, number: int, outcomes: Iterable[Outcome]) -> None:
        """Write down what became of steps."""
        moment = _now()
        with self._database.atomic():
            self._database.run_many(
                "UPDATE steps SET state = ?, reason = ?, causes = NULL, record_id = COALESCE(?, record_id),"
                " answered = ?, ours = CASE WHEN ? THEN 0 ELSE ours END WHERE change = ? AND number = ?",
                (  # what was refused, or not taken at all, had no effect: what is found there later is not ours
                    (
                        outcome.state,
                        _why_kept(outcome.why),
                        outcome.record_id,
                        moment,
                        outcome.state in ("ready", "refused"),
                        number,
                        outcome.step.number,
                    )
                    for outcome in outcomes
                ),
            )


def _why_kept(why: Reasons) -> str | None:
    """Reasons as they may be stored: without a secret in their facts, whatever words those secrets are."""
    return to_text([Reason(reason.why, _masked(reason.facts)) for reason in why])


def _masked(value: Any) -> Any:
    if isinstance(value, str):
        return fit_to_keep(value) or ""
    if isinstance(value, Mapping):  # of reasons in it, what they are is a word of ours
        return {name: fact if name == "why" and fact in _WORDS else _masked(fact) for name, fact in value.items()}
    return [_masked(fact) for fact in value] if isinstance(value, list | tuple) else value


def _why(row: DatabaseRow) -> Reasons:
    """Why a step stands as it does; an earlier release kept words, and one cause that matters beside them."""
    if "staged" in (row.get("causes") or ""):
        return because(Why.STAGED)
    return from_text(row["reason"])


def _step(row: DatabaseRow) -> Step:
    body = orjson.loads(row["body"])
    return Step(
        number=row["number"], table=row["name"], operation=row["operation"], label=row["label"], state=row["state"],
        why=_why(row),
        record_id=row["record_id"], entry=body.get("entry"), source=body.get("source"),
        key=body["key"], before=body["before"], desired=body["desired"], action=body.get("action"),
        sent=None if row["sent"] is None or row.get("ours") == 0 else datetime.fromisoformat(row["sent"]).timestamp(),
        tried=row["answered"] is not None,
        became=orjson.loads(row.get("became") or "{}"), whole=orjson.loads(row.get("whole") or "{}"),
        again=body.get("again", {}), left=body.get("left", {}), at=body.get("at"),
    )  # fmt: skip


def _text(values: dict[str, Any]) -> str:
    """Values as JSON, without our secrets; moments as ISO 8601."""
    text = orjson.dumps(values, default=str, option=orjson.OPT_NON_STR_KEYS).decode()
    if not may_tell(text):  # as nearly always: to look through one text is quick
        return text
    return orjson.dumps(in_data(values), default=str, option=orjson.OPT_NON_STR_KEYS).decode()


def _now() -> str:
    return datetime.now(UTC).isoformat()
