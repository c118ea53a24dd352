"""Writing: what a dialect creates, alters, deletes and does, as requests that are answered; tasks; what is staged."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from concordex.model.members import value_at
from concordex.wire import dialect as d
from concordex.wire.copy.alterations import Alterations, Done, listed_answer
from concordex.wire.copy.asked import Asked, Pattern
from concordex.wire.copy.declined import Cause, Declined
from concordex.wire.copy.placing import at_path, placed, way_to
from concordex.wire.copy.reading import shown
from concordex.wire.copy.route import Given, Noted, Route, Values
from concordex.wire.copy.said import Speech
from concordex.wire.copy.stocks import Stocks
from concordex.wire.dialect.order import order
from concordex.wire.dialect.templates import names_in

#: Where a task is looked at whose address the answer to a write gives.
_TASKS = "/copy-tasks/{name}/{{task}}"


class Writing:
    """What answers the requests that write."""

    def __init__(self, stocks: Stocks, speech: Speech, noted: Noted, address: Callable[[], str]) -> None:
        self.dialect, self.stocks, self._spoken, self._noted = stocks.dialect, stocks, speech, noted
        self._address = address
        self.written = Alterations(stocks)
        self._tasks: dict[str, list[Any]] = {}

    def routes(self) -> Iterator[Route]:
        """All of them."""
        for name, task in self.dialect.tasks.items():
            own = _TASKS.format(name=name) if task.path == "{task}" else None
            yield Route(Pattern(self.dialect, task, own), partial(self._task, task))
        for name, table in self.dialect.tables.items():
            if table.write:
                yield from self._writing(name, table.write)
        if self.dialect.together:
            together = self.dialect.together
            yield Route(Pattern(self.dialect, together), partial(self._together, together), writes=True)
        staging = self.dialect.staging
        if staging and staging.pending:
            yield Route(Pattern(self.dialect, staging.pending), partial(self._pending, staging))
        if staging and staging.discard:
            yield Route(Pattern(self.dialect, staging.discard), self._discard, writes=True)

    def _writing(self, name: str, write: d.Write) -> Iterator[Route]:
        of = partial(Pattern, self.dialect)
        if write.create:
            yield Route(of(write.create), partial(self._create, name, write, write.create), writes=True)
        if write.update:
            yield Route(of(write.update), partial(self._update, name, write, write.update), writes=True)
        if write.delete:
            yield Route(of(write.delete), partial(self._delete, name, write, write.delete), writes=True)
            if write.delete.restore:
                restore = write.delete.restore
                yield Route(of(restore), partial(self._restore, name, restore), writes=True)
        for what, action in write.actions.items():
            yield Route(of(action), partial(self._act, name, what, action), writes=True)
        if write.commit:
            yield Route(of(write.commit), partial(self._commit, write.commit), writes=True)
        for how in (write.update, write.delete):
            if how and not how.rpc and names_in(how.path):
                yield Route(of(d.Call(path=how.path)), partial(self._one, name, how))

    def _one(self, name: str, how: d.Update | d.Delete, _asked: Asked, values: Values) -> Given:
        """One record, as a write reads it first."""
        record_id = self.stocks.written(name, values)
        stock = self.stocks.of(name)
        if record_id not in stock:
            raise Declined(Cause.ABSENT, f"there is no {record_id or 'such record'}")
        record: Any = shown(self.dialect.tables[name], stock.record(record_id), self._address())
        record = [record] if how.listed else record
        body = placed(None, how.within.split("."), record) if how.within else record
        return Given(body, headers={"ETag": self.written.tag(name, record_id)})

    def _body(self, how: d.Send, asked: Asked, member: str | None = None) -> Any:
        """What is sent, without what the call always says."""
        static = how.params if how.rpc else how.json_body or {}
        given = asked.params if how.rpc else asked.body
        where = member or how.within
        if where:
            given = value_at(given, where)
        elif isinstance(given, Mapping):
            given = {name: value for name, value in given.items() if name not in static}
        if how.listed and isinstance(given, list) and len(given) == 1:
            given = given[0]
        return given

    def _create(self, name: str, write: d.Write, how: d.Create, asked: Asked, values: Values) -> Given:
        table = self.dialect.tables[name]
        self.stocks.of(name)
        many = how.batch_size > 1
        sent = self._body(how, asked, how.records if many else None)
        bodies = sent if many and isinstance(sent, list) else [sent]
        parent = self.stocks.parent(table, values) if table.read.each else None
        if len(bodies) > how.batch_size:
            raise Declined(Cause.WRONG, f"{how.batch_size} at once are taken, and not {len(bodies)}")
        before = len(self.written.staged)
        outcomes = self.written.create(name, bodies, parent)
        bad = {place: outcome for place, outcome in enumerate(outcomes) if isinstance(outcome, Declined)}
        if bad and how.answers is None:
            self.written.take_back(before)
            first = next(iter(bad.values()))
            if not many or write.refusals is None:
                raise first
            return self._listed_fault(replace(first, places=bad), write.refusals)
        self._kept(write, before)
        if how.answers is not None:
            told = listed_answer(how.answers, outcomes, partial(self._made, name, how))
            return Given(at_path(how.answers.records, told), 207)
        done = [outcome for outcome in outcomes if isinstance(outcome, Done)]
        made = [self._made(name, how, outcome) for outcome in done]
        body = at_path(how.made, made if many else made[0]) if how.made != "$" or many else made[0]
        return self._task_begun(how, body, [outcome.raw for outcome in done], 201)

    def _made(self, name: str, how: d.Create, done: Done) -> Any:
        """What an answer says of what was made: the record, or its id alone where that is what `made` finds."""
        path = how.id or self.dialect.tables[name].fields["record_id"].from_[0]
        if how.made != "$" and how.id is None and str(how.made).rpartition(".")[2] == str(path).rpartition(".")[2]:
            return done.raw
        return placed(done.record, way_to(path), done.raw)

    def _kept(self, write: d.Write, before: int) -> None:
        """What is written takes effect at once, where no commit is told."""
        if write.commit is None:
            del self.written.staged[before:]

    def _update(self, name: str, write: d.Write, how: d.Update, asked: Asked, values: Values) -> Given:
        tag = asked.headers.get("if-match")
        if how.batch_size > 1:
            sent = self._body(how, asked, how.records)

            def alter(one: Any) -> Done:
                own = one.get(how.id) if isinstance(one, Mapping) and how.id else None
                return self.written.update(name, self._own(name, own), one, tag)

            return self._one_by_one(write, how, sent, alter, lambda done: done.record)
        before = len(self.written.staged)
        done = self.written.update(name, self.stocks.written(name, values), self._body(how, asked), tag)
        self._kept(write, before)
        body = placed(None, how.within.split("."), done.record) if how.within else dict(done.record)
        return self._task_begun(how, body, [done.raw], 200)

    def _one_by_one(
        self, write: d.Write, how: d.Update | d.Delete, sent: Any, do: Callable[[Any], Done],
        told: Callable[[Done], Any],
    ) -> Given:  # fmt: skip
        """Several records in one request: all or none of them, or each by itself where the dialect tells its answer."""
        before, outcomes = len(self.written.staged), list[Done | Declined]()
        for place, one in enumerate(sent if isinstance(sent, list) else [sent]):
            try:
                outcomes.append(do(one))
            except Declined as refused:
                if how.answers is None:
                    self.written.take_back(before)
                    return self._listed_fault(replace(refused, places={place: refused}), write.refusals)
                outcomes.append(refused)
        self._kept(write, before)
        if how.answers is not None:
            return Given(at_path(how.answers.records, listed_answer(how.answers, outcomes, told)), 207)
        return self._task_begun(how, {}, [], 200)

    def _own(self, name: str, own: Any) -> str:
        """A record by its id as the system writes it."""
        stock = self.stocks.of(name)
        if str(own) in stock:
            return str(own)
        return stock.named(["own"], {"own": own}, lambda n: {"own": stock.raw_id(n)})

    def _delete(self, name: str, write: d.Write, how: d.Delete, asked: Asked, values: Values) -> Given:
        if how.batch_size == 1:
            before = len(self.written.staged)
            done = self.written.delete(name, self.stocks.written(name, values), asked.headers.get("if-match"))
            self._kept(write, before)
            return self._task_begun(how, {} if how.task or how.rpc else None, [done.raw], 200 if how.rpc else 204)
        given = values.get("record_ids")
        sent = str(given).split(",") if given is not None else self._body(how, asked, how.records)
        return self._one_by_one(
            write, how, sent, lambda own: self.written.delete(name, self._own(name, own)), lambda done: done.raw
        )

    def _restore(self, name: str, how: d.Send, _asked: Asked, values: Values) -> Given:
        done = self.written.restore(name, self.stocks.written(name, values))
        return self._task_begun(how, {}, [done.raw], 200)

    def _act(self, name: str, what: str, how: d.Action, asked: Asked, values: Values) -> Given:
        before = len(self.written.staged)
        write = self.dialect.tables[name].write
        assert write
        if not self.written.act(name, what, self.stocks.written(name, values), values.get("target")):
            self._noted.untold[f"what {what} does to a record of {name}, which was taken without an effect"] += 1
        del self.written.staged[before:]
        return self._task_begun(how, {}, [], 200)

    def _together(self, how: d.Together, asked: Asked, _values: Values) -> Given:
        sent, made = self._body(how, asked), Values()
        before = len(self.written.staged)
        for name in order(self.dialect, list(how.tables)):
            member = how.tables.get(name)
            bodies = value_at(sent, member) if member else None
            if not isinstance(bodies, list):
                continue
            bodies = [_resolved(body, how, made, self.dialect) for body in bodies]
            outcomes = self.written.create(name, bodies)
            bad = [outcome for outcome in outcomes if isinstance(outcome, Declined)]
            if bad:
                raise bad[0]
            record_id = self.dialect.tables[name].fields["record_id"].from_[0]
            done = [outcome for outcome in outcomes if isinstance(outcome, Done)]
            told = [placed(outcome.record, way_to(record_id), outcome.raw) for outcome in done]
            made = dict(placed(made, str(member).split("."), told))
        if all(write is None or write.commit is None for write in (self.dialect.tables[n].write for n in how.tables)):
            del self.written.staged[before:]
        return Given(at_path(how.made, made))

    def _task_begun(self, how: d.Send, body: Any, made: list[Any], status: int) -> Given:
        if how.task is None:
            return Given(body, status)
        task, number = self.dialect.tasks[how.task], str(len(self._tasks) + 1)
        self._tasks[number] = made
        if task.path == "{task}":
            base = self.dialect.base.strip("/")
            number = f"{f'/{base}' if base else ''}{_TASKS.format(name=how.task).replace('{task}', number)}"
        if task.started.header:
            return Given(None, 202, {task.started.header: number})
        assert task.started.path is not None
        return Given(placed(body, way_to(task.started.path), number), 202)

    def _task(self, task: d.Task, _asked: Asked, values: Values) -> Given:
        number = str(values.get("task"))
        if number not in self._tasks:
            raise Declined(Cause.ABSENT, f"there is no task {number}")
        body = at_path(task.state, task.done[0])
        if task.made:
            ids = self._tasks[number]
            body = placed(body, way_to(task.made), ids[0] if len(ids) == 1 else ids)
        return Given(body, shape=task.shape)

    def _commit(self, how: d.Send, _asked: Asked, _values: Values) -> Given:
        self.written.commit()
        return self._task_begun(how, {}, [], 200)

    def _pending(self, staging: d.Staging, _asked: Asked, _values: Values) -> Given:
        assert staging.pending
        listed = []
        for stock, record_id, text, _ in self.written.staged:
            did = "made" if text is None else "altered" if record_id in stock else "deleted"
            item = placed(None, way_to(staging.who), "rehearsal")
            item = placed(item, way_to(staging.what), f"{stock.name} {record_id} {did}")
            listed.append(placed(item, way_to(staging.ours), True) if staging.ours else item)
        assert staging.pending.records is not None
        return Given(at_path(staging.pending.records, listed))

    def _discard(self, _asked: Asked, _values: Values) -> Given:
        self.written.take_back()
        return Given({})

    def _listed_fault(self, refused: Declined, rules: d.Refusals | None) -> Given:
        self._noted.refused.update(one.text for one in refused.places.values())
        return self._spoken.fault(refused, rules)


def _resolved(body: Any, how: d.Together, made: Mapping[str, Any], dialect: d.Dialect) -> Any:
    """A record whose references to others of the same call are their ids."""
    if how.refers is None:
        return body
    ids: dict[str, Any] = {}
    for name, member in how.tables.items():
        record_id = dialect.tables[name].fields["record_id"].from_[0]
        for place, record in enumerate(value_at(made, member) or []):
            ids[how.refers.replace("{member}", str(member)).replace("{at}", str(place))] = record_id.first(record)

    def meant(value: Any) -> Any:
        if isinstance(value, Mapping):
            return {name: meant(below) for name, below in value.items()}
        if isinstance(value, list):
            return [meant(item) for item in value]
        return ids.get(value, value) if isinstance(value, str) else value

    return meant(body)
