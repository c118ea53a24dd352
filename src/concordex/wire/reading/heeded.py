"""Whether a system heeds which record a list is asked for: one that does not gives each record the same list.

An address that it does not know, a system refuses; a parameter that it does not know, most ignore.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from typing import Any

from concordex.errors import ConcordexError, RequestRefused, ServerFault
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.reading.completeness import TableOutcome, Verdict
from concordex.wire.reading.pages import Pager
from concordex.wire.reading.paging import first_page
from concordex.wire.reading.records import Record

#: What no record is known by, as a number and within a text.
_NOBODY = 999_999_937
#: Lists of which no two hold the same: then they are the records' own.
_ENOUGH = 100


class Heeded:
    """The lists of several records: where two hold the same, one is asked for of a record that there is not.

    ids  where the records of the lists are known by something; without it they are known by all that they say
    """

    def __init__(self, session: Session, call: d.Listed, ids: Sequence[Any] = ()) -> None:
        self._session, self._call, self._ids = session, call, ids
        self._seen = set[int]()
        self._twice: frozenset[Hashable] | None = None
        self._values: Mapping[str, Any] = {}

    def took(self, values: Mapping[str, Any], records: Sequence[Record]) -> None:
        """Take note of the list of the record that ``values`` are of."""
        if self._twice is not None or not records or len(self._seen) > _ENOUGH:
            return
        held = self._known(records)
        if (mark := hash(held)) in self._seen:
            self._twice, self._values = held, values
        self._seen.add(mark)

    async def doubt(self) -> Verdict | None:
        """That the system gives the same list whomever it is asked for, where that shows."""
        mine = (self._call.names - self._call.path.names) & self._values.keys()
        if self._twice is None or not mine:
            return None
        nobody = {name: _nobody(value) if name in mine else value for name, value in self._values.items()}
        try:
            page = await first_page(Pager(self._session, self._call, nobody))
        except (RequestRefused, ServerFault):  # it knows no such record
            return None
        except ConcordexError as error:
            return Verdict(outcome=TableOutcome.UNPROVEN, why=f"two lists hold the same, and why is not known: {error}")
        if not page.records or not self._known(page.records) <= self._twice:
            return None
        names = ", ".join(f"{{{name}}}" for name in sorted(mine))
        why = f"it holds the same whatever {names} is, also where there is no such record: the system does not heed it"
        return Verdict(outcome=TableOutcome.PARTIAL, why=why)

    def _known(self, records: Sequence[Record]) -> frozenset[Hashable]:
        if not self._ids:
            return frozenset(map(repr, records))
        firsts = ([path.first(record) for path in self._ids] for record in records)
        return frozenset(str(next((value for value in found if value is not None), "")) for found in firsts)


async def doubts(heeded: Sequence[Heeded]) -> list[Verdict]:
    """What there is to say of lists."""
    return [verdict for one in heeded if (verdict := await one.doubt())]


def _nobody(value: Any) -> Any:
    """A value that no record has, of the same kind."""
    if not isinstance(value, bool) and (isinstance(value, int | float) or str(value).isdigit()):
        return type(value)(_NOBODY)
    return f"{value}-{_NOBODY}"
