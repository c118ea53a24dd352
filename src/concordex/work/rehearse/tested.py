"""Dialects tried on their recordings: what each reads is compared with what it read when that was accepted."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import orjson

from concordex.errors import CalledWrongly, ConcordexError, DocumentError
from concordex.landing import write_text
from concordex.model.fields import ORIGINAL
from concordex.parallel import completed
from concordex.unseen import HIDDEN
from concordex.wire.dialect import load
from concordex.wire.http.recording import played, recordings
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.tables import read_tables
from concordex.words import plural

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.wire.http.recording import Played

Rows = dict[str, dict[str, dict[str, Any]]]
#: What is told of what differs.
_TOLD = 3


@dataclass(frozen=True, kw_only=True)
class Tested:
    """How one recording was read: as ``accepted``, ``different``, accepted ``new``, or not at all (``failed``)."""

    recording: str
    dialect: str
    result: str
    seen: str


def try_recordings(folder: Path, name: str | None = None, *, accept: bool = False) -> list[Tested]:
    """Each recording in ``folder``/tests read by its dialect, or those of one; ``accept`` keeps what is read now."""
    files = [file for file in recordings(folder / "tests") if file.is_file()]
    if not files:
        raise CalledWrongly(
            f"there is no recording in {folder / 'tests'}",
            advice="concordex pull --record DIR makes them: copy one there",
        )
    made = [done for file in files if (done := _tested(folder, file, name, accept=accept)) is not None]
    if not made:
        raise CalledWrongly(f"no recording in {folder / 'tests'} is of {name!r}")
    return made


def _tested(folder: Path, file: Path, name: str | None, *, accept: bool) -> Tested | None:
    dialect = ""
    try:
        recorded = played(file)
        dialect = recorded.dialect or file.stem
        if name is not None and name != dialect:
            return None
        rows, outcomes = completed(_read(recorded, load.find(dialect, folder)))
    except ConcordexError as error:
        return Tested(recording=file.stem, dialect=dialect, result="failed", seen=str(error))
    expected = file.with_suffix(".expected.ndjson")
    told = ", ".join(f"{table} {len(held):,} {outcomes[table]}" for table, held in rows.items())
    if accept:
        write_text(expected, "".join(f"{line}\n" for line in _lines(rows, outcomes)))
        return Tested(recording=file.stem, dialect=dialect, result="new", seen=told)
    if not expected.is_file():
        raise CalledWrongly(
            f"nothing says what {file.name} should give",
            advice=f"concordex dialect test {dialect} --accept keeps: {told}",
        )
    differs = list(_differences(_accepted(expected), (rows, outcomes)))
    if not differs:
        return Tested(recording=file.stem, dialect=dialect, result="accepted", seen=told)
    more = f" and {len(differs) - _TOLD} more" if len(differs) > _TOLD else ""
    return Tested(recording=file.stem, dialect=dialect, result="different", seen="; ".join(differs[:_TOLD]) + more)


async def _read(recorded: Played, dialect: Dialect) -> tuple[Rows, dict[str, str]]:
    endpoint = Endpoint(name=recorded.system, url=recorded.url, credentials=dict.fromkeys(dialect.credentials, HIDDEN))
    rows, outcomes = Rows(), dict[str, str]()
    failed: dict[str, str] = {}

    def spare(table: str, error: ConcordexError) -> None:
        failed[table] = str(error)

    async with Session(endpoint, dialect, recording=recorded) as session:
        async for table, look in read_tables(session, list(dialect.tables), spare=spare):
            outcomes[table] = str(look.outcome)
            plain = look.frame.drop(ORIGINAL).sort("record_id")
            rows[table] = {row["record_id"]: orjson.loads(orjson.dumps(row)) for row in plain.iter_rows(named=True)}
    for table, why in failed.items():
        rows[table], outcomes[table] = {}, f"failed: {why}"
    return rows, outcomes


def _lines(rows: Rows, outcomes: dict[str, str]) -> Iterator[str]:
    for table, held in sorted(rows.items()):
        yield orjson.dumps({"table": table, "outcome": outcomes[table]}).decode()
        for row in held.values():
            said = {name: value for name, value in row.items() if value not in (None, [])}
            yield orjson.dumps({"table": table, **said}).decode()


def _accepted(path: Path) -> tuple[Rows, dict[str, str]]:
    rows, outcomes = Rows(), dict[str, str]()
    for number, line in enumerate(path.read_bytes().splitlines(), 1):
        try:
            row = orjson.loads(line)
            table = row.pop("table")
        except (ValueError, KeyError, AttributeError) as error:
            raise DocumentError(str(path), [(number, "", "is no row that was accepted")]) from error
        if "record_id" in row:
            rows.setdefault(table, {})[row["record_id"]] = row
        else:
            outcomes[table] = row.get("outcome", "")
            rows.setdefault(table, {})
    return rows, outcomes


def _differences(was: tuple[Rows, dict[str, str]], now: tuple[Rows, dict[str, str]]) -> Iterator[str]:
    for table in sorted({*was[1], *now[1]}):
        before, after = was[0].get(table, {}), now[0].get(table, {})
        if was[1].get(table) != now[1].get(table):
            yield f"{table} is {now[1].get(table, 'gone')}, and was {was[1].get(table, 'not there')}"
        if lost := sorted(before.keys() - after.keys()):
            yield f"{table}: {plural(len(lost), 'record')} less, such as {lost[0]}"
        if new := sorted(after.keys() - before.keys()):
            yield f"{table}: {plural(len(new), 'record')} more, such as {new[0]}"
        for record_id in sorted(before.keys() & after.keys()):
            said = {name: value for name, value in after[record_id].items() if value not in (None, [])}
            for name in sorted({*before[record_id], *said}):
                if before[record_id].get(name) != said.get(name):
                    yield f"{table} {record_id}: {name} is {said.get(name)!r}, and was {before[record_id].get(name)!r}"
