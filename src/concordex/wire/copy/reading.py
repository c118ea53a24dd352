"""Reading: the lists of a dialect, and what hangs together with them, as requests that are answered."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any

import polars as pl

from concordex.wire import dialect as d
from concordex.wire.copy import lists, narrowing
from concordex.wire.copy.asked import Asked, Pattern
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import at_path, placed, way_to
from concordex.wire.copy.route import Given, Route, Values
from concordex.wire.copy.stock import Record
from concordex.wire.copy.stocks import Stocks, list_key, list_of
from concordex.wire.dialect.paths import Path


class Reading:
    """What answers the requests that read; ``address`` is what the copy is reached at."""

    def __init__(self, stocks: Stocks, address: Callable[[], str]) -> None:
        self.dialect, self.stocks, self._address, self._marks = stocks.dialect, stocks, address, lists.Marks()

    def routes(self) -> Iterator[Route]:
        """All of them."""
        for name, table in self.dialect.tables.items():
            yield from self._of_table(name, table)

    def _of_table(self, name: str, table: d.Table) -> Iterator[Route]:
        read = table.read
        if read.file:
            return
        known = lists.parameters(read) | narrowing.parameters(table)
        known |= {part.parameter for part in (read.columns, read.changed) if part}
        listing = partial(self._list, name, table)
        first = name not in self.stocks or self.stocks.of(name).name == name
        if first:  # of several tables that are one list, it is answered once
            yield Route(Pattern(self.dialect, read), listing, known | self._of_the_same(name))
        for rule in table.filters:
            if rule.path is not None:
                yield Route(Pattern(self.dialect, read, rule.path), partial(self._list, name, table, rule=rule), known)
        if isinstance(read.total, d.TotalCall) and first:
            total = read.total
            yield Route(Pattern(self.dialect, total), partial(self._total, name, total))
        for also in read.also:
            if not any(list_of(other) == list_key(also) for other in self.dialect.tables.values()):
                yield Route(Pattern(self.dialect, also), partial(self._second, name, also), lists.parameters(also))
        if read.details:
            yield from self._hanging(name, read.details, partial(self._detail, name, read.details))
        for gather in read.gathers:
            yield from self._hanging(name, gather, partial(self._gathered, name, gather))

    def _hanging(
        self, name: str, call: d.Details | d.Gather, answer: Callable[[Asked, Values], Given]
    ) -> Iterator[Route]:
        if call.link is None:
            yield Route(Pattern(self.dialect, call), answer)
        else:
            yield Route(LinkPattern(self.dialect, call, self._linked(name, call.link)), answer)

    def _linked(self, name: str, link: Path) -> Callable[[], Mapping[str, str]]:
        """The records of a table by the addresses that they hold."""
        found: dict[str, str] = {}

        def by_address() -> Mapping[str, str]:
            if not found and name in self.stocks:
                stock = self.stocks.of(name)
                found.update({below(str(link.first(stock.record(n)) or "")): n for n in stock.ids})
            return found

        return by_address

    def _of_the_same(self, name: str) -> set[str]:
        """The parameters of the other tables that are read from the same list."""
        others = self.stocks.of(name).tables.values() if name in self.stocks else ()
        return {p for table in others for p in narrowing.parameters(table)}

    def _list(self, name: str, table: d.Table, asked: Asked, values: Values, rule: d.FilterMap | None = None) -> Given:
        stock, read = self.stocks.of(name), table.read
        parent = None
        if read.each:
            parent = self.stocks.parent(table, values)
            if stock.of(""):
                raise untold(f"what the records of {name} hang from")
        ids = stock.of(parent) if read.each else stock.ids
        if read.changed and asked.parameter(read.place, read.changed.parameter) is not None:
            raise untold(f"when a record of {name} was altered")
        conditions = [
            condition for other in stock.tables for condition in narrowing.tests(self.dialect.tables[other], asked)
        ]
        if rule is not None:
            conditions.append(narrowing.test_in_path(table, rule, str(values["value"])))
        if isinstance(read.pages, d.WindowPages):
            conditions += self._within(name, table, read.pages, asked)
        if conditions:
            found = self.stocks.rows(name).filter(*conditions)["record_id"].to_list()
            here = set(ids) if read.each else None
            ids = found if here is None else [n for n in found if n in here]
        made = lists.cut(read, asked, len(ids), self._address(), self._marks)
        records = [shown(table, stock.record(n), self._address()) for n in ids[made.start : made.stop]]
        if read.columns and (wanted := asked.parameter(read.place, read.columns.parameter)):
            members = wanted.split(read.columns.several)
            records = [{n: v for n, v in record.items() if n in members} for record in records]
        return self._page(read, records, len(ids), made)

    def _page(self, listed: d.Listed, records: Sequence[Record], count: int, made: lists.Cut) -> Given:
        body = lists.body_of(listed, records, count, made, str(self.stocks.stamp))
        return Given(body, made.status, made.headers, shape=listed.shape)

    def _within(self, name: str, table: d.Table, pages: d.WindowPages, asked: Asked) -> list[pl.Expr]:
        if pages.field is None:
            raise untold(f"of which member of {name} a span of time is")
        column, made = pl.col(pages.field), []
        for parameter, is_begin in ((pages.since, True), (pages.until, False)):
            text = asked.parameter(table.read.place, parameter)
            if text is not None:
                try:
                    moment = narrowing.moment_of(text, pages.time)
                except ValueError as error:
                    raise Declined(Cause.WRONG, f"{parameter}: {text!r} is no moment") from error
                made.append(column >= moment if is_begin else column < moment)
        return made

    def _total(self, name: str, total: d.TotalCall, _asked: Asked, values: Values) -> Given:
        stock, table = self.stocks.of(name), self.dialect.tables[name]
        count = len(stock.of(self.stocks.parent(table, values))) if table.read.each else len(stock)
        if total.at.header:
            return Given(headers={total.at.header: str(count)}, shape=total.shape)
        assert total.at.path is not None
        return Given(at_path(total.at.path, count), shape=total.shape)

    def _second(self, name: str, also: d.Also, asked: Asked, _values: Values) -> Given:
        """A second list: of each record what came from there, with what ties it to the first."""
        stock, records = self.stocks.of(name), list[Record]()
        for record_id in stock.ids:
            record = stock.record(record_id)
            held = record.get(also.under) if also.under else record
            for more in held if isinstance(held, list) else [held]:
                if isinstance(more, Mapping):
                    tied = dict(more)
                    for theirs, ours in also.match.items():
                        if theirs.first(tied) is None:
                            tied = dict(placed(tied, way_to(theirs), ours.first(record)))
                    records.append(tied)
        made = lists.cut(also, asked, len(records), self._address(), self._marks)
        return self._page(also, records[made.start : made.stop], len(records), made)

    def _detail(self, name: str, details: d.Details, _asked: Asked, values: Values) -> Given:
        stock = self.stocks.of(name)
        record = stock.record(self.stocks.hanging(name, values))
        shown = record.get(details.under) if details.under else record
        if shown is None:
            raise Declined(Cause.ABSENT, f"there is nothing more of this record of {name}")
        return Given(at_path(details.record, shown), shape=details.shape)

    def _gathered(self, name: str, gather: d.Gather, asked: Asked, values: Values) -> Given:
        record = self.stocks.of(name).record(self.stocks.hanging(name, values))
        records = record.get(gather.under)
        if not isinstance(records, list):
            raise Declined(Cause.ABSENT, f"there is no {gather.under} of this record of {name}")
        made = lists.cut(gather, asked, len(records), self._address(), self._marks)
        return self._page(gather, records[made.start : made.stop], len(records), made)


class LinkPattern(Pattern):
    """A request to an address that a record holds."""

    def __init__(self, dialect: d.Dialect, call: d.Call, by_address: Callable[[], Mapping[str, str]]) -> None:
        super().__init__(dialect, call)
        self._by_address = by_address
        self.said = 1

    def match(self, asked: Asked, known: Mapping[str, str]) -> dict[str, Any] | None:
        """The record that holds the address."""
        del known
        found = self._by_address().get(asked.path) if asked.method == self.call.method else None
        return None if found is None else {"_record": found}


def shown(table: d.Table, record: Record, address: str) -> Record:
    """A record as it is listed: an address in it that leads to the system leads to the copy."""
    for part in (table.read.details, *table.read.gathers):
        link = part.link if part else None
        if link is not None and "://" in str(own := link.first(record) or ""):
            record = dict(placed(record, way_to(link), f"{address}{below(str(own))}"))
    return record


def below(address: str) -> str:
    """The path of an address, without its host."""
    if "://" in address:
        return "/" + address.partition("://")[2].partition("/")[2]
    return address if address.startswith("/") else f"/{address}"
