"""What a draft left open, tried on the system itself: what it shows is taken, what it refutes is said."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import ConcordexError
from concordex.insight.draft.guesses import OpenGuess, open_guesses, taken
from concordex.parallel import completed
from concordex.wire.dialect import load
from concordex.wire.reading.completeness import Proof, TableOutcome
from concordex.wire.reading.read import peek, read_table

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.wire.reading.table_read import TableRead
    from concordex.work.workspace.base import BaseWorkspace

#: Values of a member that are shown to whoever must decide.
_SHOWN = 4
#: Where the most of a window is not known, nothing can be tried.
_UNKNOWN = "?"


@dataclass(frozen=True, kw_only=True)
class TriedGuess:
    """A guess that was tried: ``shown`` true or false, or None where a person must decide; and what was seen."""

    guess: OpenGuess
    shown: bool | None
    seen: str


@dataclass
class Settled:
    """Every guess of a draft as it was tried, and the draft with those that were shown."""

    before: str
    text: str
    tried: list[TriedGuess] = field(default_factory=list)

    @property
    def shown(self) -> list[TriedGuess]:
        """Those that the system showed."""
        return [one for one in self.tried if one.shown]


def settled(workspace: BaseWorkspace, system: str, file: Path) -> Settled:
    """Try what a draft leaves open on a system, table by table: whole lists are read, and nothing is written.

    A way of paging and a total are shown where the list is whole by them and not without.  Fields, and parameters
    without which nothing can be read, are a person's to decide: what they hold, or do, is shown.
    """
    text = file.read_text(encoding="utf-8")
    made = Settled(before=text, text=text)
    guesses = open_guesses(made.text)
    for table in dict.fromkeys(guess.table for guess in guesses):
        own = [guess for guess in guesses if guess.table == table]
        trial = _Trial(workspace, system, table)
        _query(trial, made, [guess for guess in own if guess.key == "query"])
        _pages(trial, made, own)
        _fields(trial, made, [guess for guess in own if guess.key not in ("query", "pages", "total", "details")])
    return made


@dataclass
class _Trial:
    """Reads of one table by a draft that says more than the file does."""

    workspace: BaseWorkspace
    system: str
    table: str

    def read(self, text: str, *, whole: bool = True) -> TableRead | str:
        """The whole table, or its first page; or why it cannot be read."""
        try:
            dialect = load.from_text(text, "the draft", self.workspace.root / "dialects")
            return completed(self._read(dialect, whole=whole))
        except ConcordexError as error:
            return error.what

    def first(self, text: str) -> TableRead | str:
        """Its first page, or why that cannot be read."""
        return self.read(text, whole=False)

    async def _read(self, dialect: Dialect, *, whole: bool) -> TableRead:
        owner = dialect.tables[self.table].read.each
        async with self.workspace.session(self.system, dialect) as session:
            parents: pl.DataFrame | None = None
            if owner is not None:
                parents = (await peek(session, owner.of))[0].frame
            if whole:
                return await read_table(session, self.table, parents=parents)
            return (await peek(session, self.table, parents))[0]


def _query(trial: _Trial, made: Settled, guesses: Sequence[OpenGuess]) -> None:
    """A parameter that every call had may narrow the list: a person decides, where nothing can be read without it."""
    for guess in guesses:
        without, beside = trial.first(made.text), trial.first(taken(made.text, {guess: ""}))
        if isinstance(without, str) and not isinstance(beside, str):
            seen = f"only with it the list can be read, and it may leave records out; without it: {without}"
            made.tried.append(TriedGuess(guess=guess, shown=None, seen=seen))
        elif isinstance(beside, str):
            made.tried.append(TriedGuess(guess=guess, shown=False, seen=beside))
        else:
            seen = "the list can be read without it, and it may leave records out"
            made.tried.append(TriedGuess(guess=guess, shown=False, seen=seen))


def _pages(trial: _Trial, made: Settled, own: Sequence[OpenGuess]) -> None:
    """Ways of paging and totals, in each combination: the first by which the list is proved whole."""
    ways = [guess for guess in own if guess.key == "pages"]
    totals = [guess for guess in own if guess.key == "total"]
    if not ways and not totals:
        return
    plain = trial.read(made.text)
    if not isinstance(plain, str) and plain.outcome is TableOutcome.WHOLE and plain.proof is not Proof.VOUCHED:
        why = f"not needed: the list is whole as it is ({plain.proof})"
        made.tried += [TriedGuess(guess=guess, shown=False, seen=why) for guess in (*ways, *totals)]
        return
    seen, found = _sought(trial, made.text, ways, totals, 0 if isinstance(plain, str) else plain.distinct)
    if found is not None:
        chosen, look = found
        why = f"whole by it: {look.distinct:,} records ({look.proof})"
        # a total that did not prove it may be that of a page
        shown = [guess for guess in chosen if guess.key == "pages" or look.proof is Proof.TOTAL]
        made.tried += [TriedGuess(guess=guess, shown=True, seen=why) for guess in shown]
        made.text = taken(made.text, dict.fromkeys(shown, why))
        seen = dict.fromkeys(ways, "not needed: another is shown")
        seen |= dict.fromkeys(totals, f"the list is whole without it ({look.proof}), and it did not prove it")
    made.tried += [
        TriedGuess(guess=guess, shown=False, seen=seen.get(guess) or _untried(guess)) for guess in (*ways, *totals)
        if not any(one.guess == guess for one in made.tried)
    ]  # fmt: skip


def _sought(
    trial: _Trial, text: str, ways: Sequence[OpenGuess], totals: Sequence[OpenGuess], least: int
) -> tuple[dict[OpenGuess, str], tuple[list[OpenGuess], TableRead] | None]:
    """What each guess brought, and the first combination by which the list is whole, with no less than ``least``."""
    seen: dict[OpenGuess, str] = {}
    doubted = set[OpenGuess | None]()  # ways by which fewer came than what may be a total announces
    for chosen in _combined(ways, totals):
        way = next((guess for guess in chosen if guess.key == "pages"), None)
        if way in doubted and chosen == [way]:
            continue
        look = trial.read(taken(text, dict.fromkeys(chosen, "")))
        if isinstance(look, str):
            seen |= dict.fromkeys(chosen, look)
            continue
        if look.outcome is TableOutcome.WHOLE and look.distinct >= least:
            return seen, (chosen, look)
        if look.announced is not None and look.announced > look.distinct:
            doubted.add(way)
        seen |= dict.fromkeys(chosen, look.why or f"{look.distinct:,} records came")
    return seen, None


def _untried(guess: OpenGuess) -> str:
    return "what it leaves open (?) only a guide can say" if _UNKNOWN in guess.said else "not tried"


def _combined(ways: Sequence[OpenGuess], totals: Sequence[OpenGuess]) -> Iterator[list[OpenGuess]]:
    """Each way with each total, with none, and each total by itself."""
    known = [way for way in ways if _UNKNOWN not in way.said]
    for way, total in itertools.product([*known, None], [*totals, None]):
        chosen = [guess for guess in (way, total) if guess is not None]
        if chosen:
            yield chosen


def _fields(trial: _Trial, made: Settled, guesses: Sequence[OpenGuess]) -> None:
    """What the members hold that may be a field, for a person to see."""
    for guess in guesses:
        look = trial.first(taken(made.text, {guess: ""}))
        seen = look if isinstance(look, str) else _values(look, guess.key)
        made.tried.append(TriedGuess(guess=guess, shown=None, seen=seen))


def _values(look: TableRead, name: str) -> str:
    if name not in look.frame.columns:
        return "nothing stands there"
    column = look.frame[name].drop_nulls()
    texts = column.explode() if isinstance(column.dtype, pl.List) else column
    told = list(dict.fromkeys(map(str, texts.drop_nulls().head(200).to_list())))
    if not told:
        return "nothing stands there"
    return f"{', '.join(told[:_SHOWN])}{' …' if len(told) > _SHOWN else ''} in {len(column):,} of {look.frame.height:,}"
