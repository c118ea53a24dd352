"""Several tables of one system, each after those that it refers to."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence

from concordex.errors import CalledWrongly
from concordex.wire.dialect import Dialect, Table
from concordex.wire.mapping import follow
from concordex.wire.pages import Narrow
from concordex.wire.read import Look, read_table
from concordex.wire.session import Session

#: Told after each page: the table, records so far, and how many were announced.
TableProgress = Callable[[str, int, int | None], None]


async def read_tables(
    session: Session,
    tables: Sequence[str],
    narrow: Mapping[str, Narrow] | None = None,
    progress: TableProgress | None = None,
) -> AsyncIterator[tuple[str, Look]]:
    """``tables`` and those that they refer to, with the ids in them replaced by what they mean.

    ``narrow`` says, for a table, how the system makes it shorter itself.
    """
    looks: dict[str, Look] = {}
    for name in order(session.dialect, tables):
        each = session.dialect.tables[name].read.each
        parents = looks[each.of].frame if each else None
        look = await read_table(session, name, (narrow or {}).get(name), _for(name, progress), parents)
        if progress:  # it has ended, also where nobody knew how long it would be
            progress(name, look.received, look.received)
        if each and not looks[each.of].whole:
            look.fault = look.fault or f"it hangs from {each.of}, which is partial"
        others = {other: done.frame for other, done in looks.items()}
        look.frame = follow(look.frame, session.dialect.tables[name], others)
        looks[name] = look
        yield name, look


def _for(name: str, progress: TableProgress | None) -> Callable[[int, int | None], None] | None:
    return (lambda came, announced: progress(name, came, announced)) if progress else None


def order(dialect: Dialect, tables: Sequence[str]) -> list[str]:
    """``tables`` and those that they refer to, each after what it refers to."""
    done: list[str] = []

    def visit(name: str, path: tuple[str, ...]) -> None:
        if name in path:
            raise CalledWrongly(f"the tables {' -> '.join((*path, name))} of dialect {dialect.name} refer in a circle")
        if name not in done:
            for other in refers_to(dialect.tables[name]):
                visit(other, (*path, name))
            done.append(name)

    for name in tables:
        visit(name, ())
    return done


def refers_to(table: Table) -> list[str]:
    """The tables that must be read before this one."""
    named = [spec.via for spec in table.fields.values() if spec.via]
    return [*([table.read.each.of] if table.read.each else []), *named]
