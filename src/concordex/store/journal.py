"""The journal of changes: every step is written down before it is sent and after."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from functools import lru_cache
from hashlib import sha256
from itertools import islice
from typing import Any, Literal
from uuid import uuid4

import orjson

from concordex.change.about import About
from concordex.change.reasons import Reason, Reasons, Why, because, from_text, to_text
from concordex.change.steps import Change, Operation, Outcome, State, Step, Values
from concordex.errors import CalledWrongly, Stopped
from concordex.store.chain import Chain, Verified
from concordex.store.database import Database, DatabaseRow
from concordex.store.earlier import check_today
from concordex.store.step_rows import PIECE, step_rows
from concordex.unseen import fit_to_keep, in_data, may_tell

_WORDS = tuple(Why)

#: Steps as they were prepared, by their change's number, the moment at which it was made, and its token.
KnownSteps = dict[tuple[int, str, str | None], tuple[Step, ...]]

#: What may be done to a change.
JournalRight = Literal["prepare", "agree", "run"]
Require = Callable[[JournalRight, str], None]

#: How many changes are named where one is not there.
_TOLD = 5


def _all_may(right: JournalRight, system: str, /) -> None:
    """Nobody is kept from anything."""


class Journal:
    """Changes and their steps in the catalogue."""

    def __init__(self, database: Database, known: KnownSteps | None = None, require: Require = _all_may) -> None:
        """``known`` holds the steps of the change that this process has read last: what they are to do stays.

        ``require`` raises Stopped where this process may not prepare, run or agree on a system.
        """
        self._require = require
        check_today(database)
        self._database = database
        self._chain = Chain(database)
        self._known = {} if known is None else known

    def keep(self, change: Change) -> Change:
        """Write down a prepared change; the same, with its number, as it will be read."""
        self._require("prepare", change.system)
        about = replace(
            change.about, token=str(uuid4()), agreed=()
        ).document()  # its own: a change from a file is another one
        made, kept = _now(), list[Step]()
        with self._database.atomic():
            number = self._database.insert(
                "INSERT INTO changes (made, kind, system, state, about) VALUES (?, ?, ?, 'draft', ?)",
                (made, change.kind, change.system, json.dumps(about)),
            )
            rows = _rows(number, change.steps, kept)
            while piece := list(islice(rows, PIECE)):
                self._database.run_many(
                    "INSERT INTO steps (change, number, name, operation, label, body, state, reason, record_id)"
                    " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    piece,
                )
            self._chain.add(number, "prepared")
        told = About.of(json.loads(json.dumps(about)))
        self._known.clear()
        self._known[number, made, told.token] = steps = tuple(kept)
        return Change(number=number, kind=change.kind, system=change.system, state="draft", about=told, steps=steps)

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
        about = About.of(json.loads(row.get("about") or "{}"))
        return Change(
            number=number, kind=row["kind"], system=row["system"], state=row["state"], about=about,
            steps=self._steps(number, (number, row["made"], about.token)),
        )  # fmt: skip

    def _steps(self, number: int, known_as: tuple[int, str, str | None]) -> tuple[Step, ...]:
        if known_as not in self._known:
            read = tuple(_as_prepared(*row) for row in step_rows(self._database, number, _PREPARED))
            self._known.clear()
            self._known[known_as] = read
        rows = step_rows(self._database, number, _STANDING)
        return tuple(_as_it_stands(step, *row) for step, row in zip(self._known[known_as], rows, strict=True))

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
        self._require("run", self.system_of(number))

        def take() -> bool:
            taken = self._database.run(
                "UPDATE changes SET state = 'running', begun = ?, process = ? WHERE id = ?"
                " AND state NOT IN ('done', 'dropped')",
                (_now(), process, number),
            )
            if taken:
                self._chain.add(number, "begun")
            return taken > 0

        if not self._database.repeatable(take):
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

        def note() -> None:
            self._database.run("UPDATE changes SET state = ?, ended = ? WHERE id = ?", (state, _now(), number))
            self._chain.add(number, state)

        self._database.repeatable(note)

    def mark_sent(self, number: int, steps: Sequence[Step]) -> None:
        """Write down that these steps are about to be sent: durable before the first byte leaves."""
        moment = _now()
        one_of, numbers = self._database.among([step.number for step in steps])
        sql = f"UPDATE steps SET state = 'sent', sent = ?, ours = 1 WHERE change = ? AND number IN {one_of}"  # noqa: S608
        self._database.repeatable(lambda: self._database.run(sql, (moment, number, numbers)))

    def written(self, system: str, table: str) -> dict[str, dict[str, Any]]:
        """What was last written of each record, by its id, field by field, as it was read back."""
        rows = self._database.rows(
            "SELECT steps.record_id AS record_id, steps.body AS body, steps.became AS became FROM steps"
            " JOIN changes ON changes.id = steps.change WHERE changes.system = ? AND steps.name = ?"
            " AND steps.state = 'confirmed' AND steps.sent IS NOT NULL AND COALESCE(steps.ours, 1) <> 0"
            " AND steps.record_id IS NOT NULL"
            " ORDER BY steps.answered, steps.change, steps.number",
            (system, table),
        )
        values: dict[str, dict[str, Any]] = {}
        for row in rows:
            last = {**orjson.loads(row["body"])["desired"], **orjson.loads(row["became"] or "{}")}
            values.setdefault(row["record_id"], {}).update(last)
        return values

    def unsettled(self, system: str, beside: int) -> list[tuple[int, Step]]:
        """Creations of other changes than ``beside`` of which nobody knows whether they came to what they should.

        Each with its change; changes that were put aside do not count, since a person has decided that.
        """
        rows = self._database.tuples(
            "SELECT steps.change, steps.number, steps.name, steps.operation, steps.label, steps.body,"  # noqa: S608
            f" {', '.join(f'steps.{column}' for column in _STANDING.split(', '))} FROM steps"
            " JOIN changes ON changes.id = steps.change WHERE changes.system = ? AND changes.id <> ?"
            " AND changes.state NOT IN ('draft', 'done', 'dropped') AND steps.operation = 'create'"
            " AND steps.state IN ('sent', 'unknown', 'differs') ORDER BY steps.change, steps.number",
            (system, beside),
        )
        return [(row[0], _as_it_stands(_as_prepared(*row[1:6]), *row[6:])) for row in rows]

    def when_written(self, system: str, table: str) -> dict[str, dict[str, tuple[int, str]]]:
        """By which change, and when, each field of each record was last written, by the record's id."""
        rows = self._database.rows(
            "SELECT steps.record_id AS record_id, steps.body AS body, steps.change AS number, steps.sent AS sent"
            " FROM steps JOIN changes ON changes.id = steps.change WHERE changes.system = ? AND steps.name = ?"
            " AND steps.state = 'confirmed' AND steps.sent IS NOT NULL AND COALESCE(steps.ours, 1) <> 0"
            " AND steps.record_id IS NOT NULL ORDER BY steps.answered, steps.change, steps.number",
            (system, table),
        )
        moments: dict[str, dict[str, tuple[int, str]]] = {}
        for row in rows:
            names = orjson.loads(row["body"])["desired"]
            moments.setdefault(row["record_id"], {}).update(dict.fromkeys(names, (row["number"], row["sent"])))
        return moments

    def drop(self, number: int, was: str) -> None:
        """Put a change aside for good, which stood so when it was looked at; what it has written stays as it is.

        Raises Stopped where another process has begun or ended it meanwhile.
        """
        self._require("prepare", self.system_of(number))
        with self._database.atomic():
            sql = "UPDATE changes SET state = 'dropped', ended = ? WHERE id = ? AND state = ?"
            if self._database.run(sql, (_now(), number, was)):
                self._chain.add(number, "dropped")
                return
        raise Stopped(
            f"change {number} was run or dropped by another process meanwhile",
            advice=f"concordex change show {number}",
        )

    def agree(self, number: int, by: str) -> None:
        """Note that somebody agrees to a change as it is now."""
        self._require("agree", self.system_of(number))
        with self._database.atomic():
            agreed = self.change(number).about.agreed
            mark = {"by": by, "when": _now(), "digest": self.digest_of(number)}
            self.note(number, agreed=[*(one for one in agreed if one["by"] != by), mark])
            self._chain.add(number, f"agreed to by {by}")

    def digest_of(self, number: int) -> str:
        """Of what a change is to do: its steps as they were prepared."""
        made = sha256()
        for row in step_rows(self._database, number, _PREPARED):
            made.update(orjson.dumps(row))
        return made.hexdigest()

    def has_seal(self, seal: str) -> bool:
        """Whether a link of the chain bears this seal."""
        return bool(self._database.rows("SELECT 1 FROM links WHERE seal = ?", (seal,)))

    def verify(self) -> Verified:
        """Whether all that was written down is as it was."""
        return self._chain.verify()

    def entries(self, number: int | None = None) -> list[DatabaseRow]:
        """Every step that left here, the newest first: when, of which change, what, and what came of it."""
        rows = self._database.rows(
            "SELECT steps.*, changes.kind AS kind, changes.system AS system, changes.about AS about FROM steps"
            " JOIN changes ON changes.id = steps.change WHERE sent IS NOT NULL AND (? IS NULL OR change = ?)"
            " ORDER BY sent DESC, change DESC, number DESC",
            (number, number),
        )
        return [
            {**row, "about": json.loads(row.get("about") or "{}"), "why": _why(row["reason"], row.get("causes"))}
            for row in rows
        ]

    def settled(self, number: int, outcomes: Iterable[Outcome]) -> None:
        """Write down what became of steps."""
        rows = list(_settled(number, outcomes))
        self._database.repeatable(
            lambda: self._database.run_many(f"UPDATE steps SET {_SETTLED}", rows)  # noqa: S608 - words of ours
        )

    def judged(self, number: int, outcomes: Sequence[Outcome], read_back: Iterable[tuple[Values, Values]]) -> None:
        """Write down what became of steps, and what was read back of each.

        That is its fields, and of the system's whole record what an undo rests on.
        """
        texts = ((_text(became), _text(whole)) for became, whole in read_back)
        rows = [(*text, *values) for text, values in zip(texts, _settled(number, outcomes), strict=True)]
        sql = f"UPDATE steps SET became = ?, whole = ?, {_SETTLED}"  # noqa: S608 - words of ours
        self._database.repeatable(lambda: self._database.run_many(sql, rows))


_SETTLED = (
    "state = ?, reason = ?, causes = NULL, record_id = COALESCE(?, record_id), answered = ?,"
    " ours = CASE WHEN ? THEN 0 ELSE ours END WHERE change = ? AND number = ?"
)


def _settled(number: int, outcomes: Iterable[Outcome]) -> Iterator[tuple[Any, ...]]:
    """The values of ``_SETTLED``.

    What was refused, or not taken at all, had no effect: what is found there later is not ours.
    """
    moment = _now()
    for step, state, why, record_id in outcomes:
        yield state, _why_kept(why), record_id, moment, state in ("ready", "refused"), number, step.number


def _rows(number: int, steps: Iterable[Step], kept: list[Step]) -> Iterator[tuple[Any, ...]]:
    """The values of steps that are kept; ``kept`` grows by each as it will be read."""
    for step in steps:
        body, why = step.body(), _why_kept(step.why)
        text = _text(body)
        kept.append(_as_kept(step, body, text, why))
        yield number, step.number, step.table, step.operation, step.label, text, step.state, why, step.record_id


def _as_kept(step: Step, body: Values, text: str, why: str | None) -> Step:
    """A step as it will be read: itself, and no second copy of a million, where nothing of it is written otherwise."""
    fresh = not (step.became or step.whole or step.tried or step.sent)
    if fresh and orjson.loads(text) == body and (not why or from_text(why) == step.why):
        return step
    read = _as_prepared(step.number, step.table, step.operation, step.label, text)
    return _as_it_stands(read, step.state, why, None, step.record_id, None, None, None, None, None)


def _why_kept(why: Reasons) -> str | None:
    """Reasons as they may be stored: without a secret in their facts, whatever words those secrets are."""
    return to_text([Reason(reason.why, _masked(reason.facts)) for reason in why]) if why else None


def _masked(value: Any) -> Any:
    if isinstance(value, str):
        return fit_to_keep(value) or ""
    if isinstance(value, Mapping):  # of reasons in it, what they are is a word of ours
        return {name: fact if name == "why" and fact in _WORDS else _masked(fact) for name, fact in value.items()}
    return [_masked(fact) for fact in value] if isinstance(value, list | tuple) else value


def _why(reason: str | None, causes: str | None) -> Reasons:
    """Why a step stands as it does; an earlier release kept words, and one cause that matters beside them."""
    return because(Why.STAGED) if causes and "staged" in causes else from_text(reason)


#: The columns that say what a step is to do, as :func:`_as_prepared` takes them; and how it stands, as
#: :func:`_as_it_stands` does.
_PREPARED = "number, name, operation, label, body"
_STANDING = "state, reason, causes, record_id, sent, ours, answered, became, whole"


_BLANK = Step(number=0, table="", operation="report", label="", key={})


def _as_prepared(number: int, table: str, operation: Operation, label: str, body: str) -> Step:
    return _BLANK.having(number=number, table=table, operation=operation, label=label, **orjson.loads(body))


def _as_it_stands(
    step: Step, state: State, reason: str | None, causes: str | None, record_id: str | None, sent: str | None,
    ours: int | None, answered: str | None, became: str | None, whole: str | None,
) -> Step:  # fmt: skip
    return step.having(
        state=state, record_id=record_id, tried=answered is not None,
        why=_why(reason, causes) if reason or causes else (),
        sent=None if sent is None or ours == 0 else _seconds(sent),
        became=orjson.loads(became) if became else {}, whole=orjson.loads(whole) if whole else {},
    )  # fmt: skip


@lru_cache(maxsize=1024)
def _seconds(moment: str) -> float:
    """A moment in seconds since 1970; the steps of a request have one."""
    return datetime.fromisoformat(moment).timestamp()


def _text(values: Values) -> str:
    """Values as JSON, without our secrets; moments as ISO 8601."""
    text = orjson.dumps(values, default=str, option=orjson.OPT_NON_STR_KEYS).decode()
    if not may_tell(text):  # as nearly always: to look through one text is quick
        return text
    return orjson.dumps(in_data(values), default=str, option=orjson.OPT_NON_STR_KEYS).decode()


def _now() -> str:
    return datetime.now(UTC).isoformat()
