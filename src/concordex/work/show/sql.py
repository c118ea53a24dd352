"""SQL over all that was pulled and reconciled: it only reads, and what it reads is as ``show`` shows it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

import polars as pl

from concordex.errors import CalledWrongly
from concordex.model.fields import ORIGINAL, Type
from concordex.query.predicate import types_in
from concordex.words import suggestion
from concordex.work.show.references import with_names
from concordex.work.show.tables import Selection, source

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: What reconciling makes, and every device record with its entry.
_MADE = ("entries", "findings", "records")
_LISTS = {Type.TEXTS: "list of texts", Type.MACS: "list of MAC addresses", Type.IPS: "list of addresses"}
_OWN = "text: the system's own record as JSON"
#: Names in quotes; and what is no word of a statement: texts, and remarks.
_QUOTED = re.compile(r"""("(?:[^"]|"")*")|'(?:[^']|'')*'|--[^\n]*|/\*.*?\*/""", re.DOTALL)
#: Functions by which the engine would read files of its own accord.
_OF_FILES = re.compile(r"\b((?:read|scan)_\w+)\W*\(", re.IGNORECASE)


def ask(workspace: BaseWorkspace, text: str, as_of: datetime | None = None) -> Selection:
    """What one ``select`` finds in the tables as they are, or as they were pulled ``as_of`` a moment.

    Raises CalledWrongly where it is no statement that reads, or names what is not there.
    """
    bare = _QUOTED.sub(lambda match: match[1] or " ", text)
    _check(bare)
    words = set(re.findall(r"\w+", bare))
    known = names(workspace, as_of)
    used, notes = dict[str, pl.LazyFrame](), list[str]()
    for name in known:
        if name in words:
            used[name], more = _table(workspace, name, as_of, original=ORIGINAL in words)
            notes += more
    try:
        answer = pl.SQLContext(used).execute(text, eager=False)
        return Selection(frame=answer.collect(engine="streaming"), notes=notes)
    except pl.exceptions.PolarsError as error:
        raise _wrong(error, used, known) from error


def names(workspace: BaseWorkspace, as_of: datetime | None = None) -> list[str]:
    """The tables that can be asked."""
    pulled = {snapshot.table for snapshot in workspace.memory.newest(until=as_of)}
    made: Sequence[str] = ("entries", "records")
    if as_of is None:
        made = _MADE if workspace.memory.reconciliation() else ("records",)
    return sorted({*pulled, *(made if "devices" in pulled else ())})


def described(workspace: BaseWorkspace, as_of: datetime | None = None) -> Iterator[dict[str, object]]:
    """Every column of every table, and what its values are."""
    for table in names(workspace, as_of):
        lazy, _ = _table(workspace, table, as_of, original=True)
        schema = lazy.collect_schema()
        types = {**types_in(schema), ORIGINAL: None}
        for column in schema:
            kind = types[column]
            yield {"table": table, "column": column, "type": _LISTS.get(kind, kind.value) if kind else _OWN}


def _check(bare: str) -> None:
    first = re.search(r"\w+", bare)
    if first is None or first[0].lower() not in ("select", "with"):
        raise CalledWrongly("a query only reads: it begins with select, or with", advice="concordex query --tables")
    if reads := _OF_FILES.search(bare):
        raise CalledWrongly(
            f"{reads[1]} is no table of the workspace",
            advice="pull that file as a system (docs/dialects.md)",
        )


def _table(
    workspace: BaseWorkspace, name: str, as_of: datetime | None, *, original: bool
) -> tuple[pl.LazyFrame, list[str]]:
    lazy, notes = source(workspace, name, as_of=as_of)
    lazy = with_names(workspace, name, lazy, until=as_of).lazy
    return lazy if original or ORIGINAL not in lazy.collect_schema() else lazy.drop(ORIGINAL), notes


def _wrong(error: Exception, used: Mapping[str, pl.LazyFrame], known: list[str]) -> CalledWrongly:
    """What the engine does not understand, with the nearest word that it would."""
    said = str(error).strip().splitlines()[0]
    if table := re.search(r"relation '([^']+)' was not found", said):
        return CalledWrongly(f"there is no table {table[1]!r}", advice=suggestion(table[1], known))
    if column := re.search(r'unable to find column "([^"]+)"', said):
        columns = [name for lazy in used.values() for name in lazy.collect_schema()]
        return CalledWrongly(f"there is no column {column[1]!r}", advice=suggestion(column[1], columns))
    if isinstance(error, pl.exceptions.DuplicateError):
        twice = re.search(r"'([^']+)'", said)
        name = f" called {twice[1]!r}" if twice else ""
        return CalledWrongly(f"two columns would be{name}", advice="give one of them another name: … as …")
    return CalledWrongly("the query is not understood", why=said, advice="docs/sql.md")
