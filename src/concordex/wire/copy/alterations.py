"""Writes to a copy: what the dialect calls required, unique and referred to is asked for, then they are done."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import polars as pl

from concordex.model.members import flat, value_at
from concordex.query.tree import Clause
from concordex.wire import dialect as d
from concordex.wire.copy.altered import altered, as_read, without_secrets
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import placed, way_to
from concordex.wire.copy.stock import Record, Stock
from concordex.wire.copy.stocks import Stocks

#: What a member holds that says nothing.
_NOTHING: tuple[Any, ...] = (None, "", [], {})


@dataclass
class Done:
    """What one thing that was written came to: its id as the system writes it, and the record."""

    raw: Any
    record: Mapping[str, Any]


@dataclass
class Alterations:
    """What is written to the stocks of a copy, by table; ``staged`` is how it is taken back until it is committed."""

    stocks: Stocks
    staged: list[tuple[Stock, str, str | None, str | None]] = field(default_factory=list)
    _taken: dict[tuple[str, str], dict[str, str]] = field(default_factory=dict)
    _binned: dict[tuple[str, str], str] = field(default_factory=dict)

    def create(self, name: str, bodies: Sequence[Any], parent: str | None = None) -> list[Done | Declined]:
        """Records made of what was sent, or why not, one by one."""
        outcomes: list[Done | Declined] = []
        for body in bodies:
            try:
                outcomes.append(self._made(name, body, parent))
            except Declined as refused:
                outcomes.append(refused)
        return outcomes

    def _made(self, name: str, sent: Any, parent: str | None) -> Done:
        table, stock = self.stocks.dialect.tables[name], self.stocks.of(name)
        assert table.write and table.write.create
        if not isinstance(sent, Mapping):
            raise Declined(Cause.WRONG, "there is no record in the body")
        self._required(table, sent)
        self._allowed(table, sent)
        named = table.write.create.named
        raw = named.first(sent) if named else stock.new_id()
        if raw in _NOTHING:
            raise Declined(Cause.WRONG, f"{named} is required")
        record = stock.with_id(without_secrets(table.write, as_read(table, sent, sent)), raw)
        record_id = stock.known_as(raw, parent)
        if record_id in stock:
            raise Declined(Cause.TAKEN, f"there is {record_id} already")
        self._unique(name, record_id, record)
        self._put(stock, record_id, record, parent)
        return Done(raw, record)

    def update(self, name: str, record_id: str, sent: Any, tag: str | None = None) -> Done:
        """A record altered by what was sent."""
        table, stock = self.stocks.dialect.tables[name], self.stocks.of(name)
        assert table.write and table.write.update
        self._there(stock, record_id, tag)
        if isinstance(sent, Mapping):
            self._allowed(table, sent)
        raw, old = stock.raw_id(record_id), stock.record(record_id)
        beside = [also.under for also in table.read.also if also.under]
        beside += [gather.under for gather in table.read.gathers]
        beside += [table.read.details.under] if table.read.details and table.read.details.under else []
        made = altered(table.write.update, old, sent, beside)
        if isinstance(sent, Mapping):
            made = without_secrets(table.write, as_read(table, made, sent))
        made = stock.with_id(made, raw)
        if flat(made) != flat(old):
            self._unique(name, record_id, made)
            self._put(stock, record_id, made, stock.parent(record_id))
        return Done(raw, made)

    def delete(self, name: str, record_id: str, tag: str | None = None) -> Done:
        """A record taken away, or put into the system's bin."""
        table, stock = self.stocks.dialect.tables[name], self.stocks.of(name)
        assert table.write and table.write.delete
        self._there(stock, record_id, tag)
        raw, old = stock.raw_id(record_id), stock.record(record_id)
        if table.write.delete.binned:
            self._binned[name, record_id] = stock.text(record_id) or ""
            binned = _as_filtered(table, old, table.write.delete.binned.query.node)
            self._put(stock, record_id, binned, stock.parent(record_id))
        else:
            self.staged.append((stock, record_id, stock.text(record_id), stock.parent(record_id)))
            stock.remove(record_id)
        return Done(raw, old)

    def restore(self, name: str, record_id: str) -> Done:
        """A record taken out of the bin."""
        stock = self.stocks.of(name)
        self._there(stock, record_id, None)
        if (name, record_id) not in self._binned:
            raise untold(f"how {record_id} was before it came into the bin")
        self._put(stock, record_id, self._binned.pop((name, record_id)), stock.parent(record_id))
        return Done(stock.raw_id(record_id), stock.record(record_id))

    def act(self, name: str, action: str, record_id: str, target: Any) -> bool:
        """Do to a record what the dialect calls by a name; whether it tells what that does."""
        table, stock = self.stocks.dialect.tables[name], self.stocks.of(name)
        assert table.write
        self._there(stock, record_id, None)
        how = table.write.actions[action]
        if how.shows is None:
            return False
        if how.each is None or table.config is None:
            raise untold(f"what {action} makes of {how.shows}")
        other = table.config.references[how.each]
        targets = self.stocks.of(other)
        way = way_to(self.stocks.dialect.tables[other].fields[how.shows].from_[0])
        self._there(targets, str(target), None)
        record = targets.record(str(target))
        shown = self.stocks.dialect.tables[other].fields[how.shows].from_[0].first(record)
        listed = list(shown) if isinstance(shown, list) else [shown] if shown else []
        called = self._name(name, record_id)
        undoes = any(action == act.taken_back for act in table.write.actions.values())
        left = [item for item in listed if item != called]
        self._put(
            targets, str(target), placed(record, way, left if undoes else [*left, called]), targets.parent(str(target))
        )
        return True

    def _name(self, name: str, record_id: str) -> Any:
        said = (
            path.first(self.stocks.of(name).record(record_id))
            for path in self.stocks.dialect.tables[name].fields["name"].from_
        )
        return next((value for value in said if value not in _NOTHING), record_id)

    def commit(self) -> None:
        """Nothing that was written can be taken back any more."""
        self.staged.clear()

    def take_back(self, to: int = 0) -> None:
        """Undo what was written since there were ``to`` things to undo."""
        while len(self.staged) > to:
            stock, record_id, text, parent = self.staged.pop()
            if record_id in stock:
                stock.remove(record_id)
            if text is not None:
                stock.put(record_id, text, parent)
        self._taken.clear()

    def tag(self, name: str, record_id: str) -> str:
        """The tag of a record as it is now (RFC 9110, section 8.8.3)."""
        return f'"{hashlib.sha256((self.stocks.of(name).text(record_id) or "").encode()).hexdigest()[:20]}"'

    def _there(self, stock: Stock, record_id: str, tag: str | None) -> None:
        if record_id not in stock:
            raise Declined(Cause.ABSENT, f"there is no {record_id or 'such record'}")
        if tag not in (None, "*", self.tag(stock.name, record_id)):
            raise Declined(Cause.ALTERED, f"{record_id} was altered meanwhile")

    def _put(self, stock: Stock, record_id: str, record: Mapping[str, Any] | str, parent: str | None) -> None:
        self.staged.append((stock, record_id, stock.text(record_id), parent))
        stock.put(record_id, record, parent)

    def _required(self, table: d.Table, sent: Mapping[str, Any]) -> None:
        assert table.write
        for name in table.write.required:
            how = table.write.references.get(name) or table.write.fields.get(name)
            if how and value_at(sent, how.to) in _NOTHING:
                raise Declined(Cause.WRONG, f"{how.to} is required")

    def _allowed(self, table: d.Table, sent: Mapping[str, Any]) -> None:
        """What is sent is of the words that it may be, not too long, and refers to what is there."""
        assert table.write
        for how in table.write.fields.values():
            value = value_at(sent, how.to)
            words = {(how.values or {}).get(word, word).lower() for word in how.choices}
            if words and value not in _NOTHING and str(value).lower() not in words:
                raise Declined(Cause.WRONG, f"{how.to} may be {', '.join(sorted(words))}, and not {value}")
            if how.longest and isinstance(value, str) and len(value) > how.longest:
                raise Declined(Cause.WRONG, f"{how.to} may have {how.longest} characters, and not {len(value)}")
        referred: list[tuple[str, str]] = [(ref.to, ref.via) for ref in table.write.references.values()]
        referred += list((table.config.references if table.config else {}).items())
        for member, other in referred:
            value = value_at(sent, member)
            for one in value if isinstance(value, list) else [value]:
                if one not in _NOTHING and other in self.stocks and str(one) not in self.stocks.of(other):
                    raise Declined(Cause.WRONG, f"{member}: there is no {one} among {other}")

    def _unique(self, name: str, record_id: str, record: Record) -> None:
        table, stock = self.stocks.dialect.tables[name], self.stocks.of(name)
        for unique in table.write.unique if table.write else ():
            value = self._value(name, record_id, record, unique)
            if value in _NOTHING:
                continue
            holder = self._bearers(name, unique).get(str(value))
            if holder not in (None, record_id) and holder in stock:
                now = self._value(name, holder, stock.record(holder), unique)
                if str(now) == str(value):
                    raise Declined(Cause.TAKEN, f"{holder} has the {unique} {value} already")
            self._bearers(name, unique)[str(value)] = record_id

    def _bearers(self, name: str, unique: str) -> dict[str, str]:
        if (name, unique) not in self._taken:
            rows = self.stocks.rows(name)
            pairs = zip(rows[unique].to_list(), rows["record_id"].to_list(), strict=True)
            self._taken[name, unique] = {str(_plain(value)): n for value, n in pairs if _plain(value) not in _NOTHING}
        return self._taken[name, unique]

    def _value(self, name: str, record_id: str, record: Record, field_name: str) -> Any:
        """What the dialect reads of a record."""
        stock = self.stocks.of(name)
        table = stock.name if stock.name != name and name not in stock.tables else name
        frame = stock.mapped(table, [record_id], self.stocks.rows, {record_id: record})
        return _plain(frame[field_name][0])


def _plain(value: Any) -> Any:
    return value.to_list() if isinstance(value, pl.Series) else value


def _as_filtered(table: d.Table, record: Mapping[str, Any], node: Any) -> Record:
    """A record for which a filter holds that says what one field is."""
    if isinstance(node, Clause) and node.operator == "=" and len(node.values) == 1:
        spec = table.fields.get(node.field.text)
        if spec and spec.from_ and spec.from_[0].steps:
            ours = node.values[0].text
            theirs = next((word for word, meant in (spec.values or {}).items() if meant == ours), ours)
            value: Any = theirs == "true" if theirs in ("true", "false") else theirs
            return dict(placed(record, spec.from_[0].steps, value))
    raise untold("how a record in the bin looks")


def listed_answer(how: d.Answers, outcomes: Sequence[Done | Declined], record_of: Callable[[Done], Any]) -> list[Any]:
    """How a good answer tells of each record which were refused."""
    node = how.refused.query.node
    if not isinstance(node, Clause) or node.operator not in (">=", ">", "=", "present") or len(node.values) > 1:
        raise untold(f"how an answer looks for which {how.refused} holds")
    member, told = node.field.text, []
    for outcome in outcomes:
        bad = isinstance(outcome, Declined)
        item: Any = record_of(outcome) if isinstance(outcome, Done) else {}
        item = dict(item) if isinstance(item, Mapping) else {"id": item}
        if node.operator == "present":
            item = placed(item, member.split("."), str(outcome)) if bad else item
        else:
            item = placed(item, member.split("."), _on_side(node, bad=bad))
        told.append(placed(item, way_to(how.reason), str(outcome)) if bad else item)
    return told


def _on_side(node: Clause, *, bad: bool) -> Any:
    text = node.values[0].text
    try:
        number = float(text)
    except ValueError:
        if node.operator != "=":
            raise untold(f"what is {node.operator} {text}") from None
        return text if bad else f"not {text}"
    whole = int(number) if number == int(number) else number
    if node.operator == "=":
        return whole if bad else whole - 1
    return whole + 1 if bad else whole // 2
