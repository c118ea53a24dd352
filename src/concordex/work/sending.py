"""Sending steps: written down first, sent once, looked for when the answer does not say what was done."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, cast
from uuid import UUID, uuid5

import polars as pl

from concordex.change.batches import halves, lists, stages
from concordex.change.compare import shown
from concordex.change.steps import State, Step
from concordex.errors import (
    BadAnswer,
    CalledWrongly,
    Conflict,
    RequestRefused,
    SecretError,
    SignInRefused,
    WireError,
)
from concordex.store.journal import Journal
from concordex.wire import dialect as d
from concordex.wire.session import Session
from concordex.wire.writes import (
    Base,
    Refusal,
    act,
    base_of,
    create,
    create_together,
    delete,
    refusals,
    update,
    update_many,
)
from concordex.work.committing import Committer
from concordex.work.concurrent import at_most
from concordex.work.how import How
from concordex.work.lookout import Lookout
from concordex.work.standing import AWAY, STAGED, Outcome, in_words, is_done, of_creations, of_the_rest
from concordex.work.target import Actual, writable

#: Records that may be forbidden (403) one by one while nothing was allowed; then it is the right that lacks.
_FORBIDDEN = 3

#: How a step stands that keeps others of its change from coming into effect.
_STANDS = {"refused": "was refused", "held": "was held", "unknown": "may have been written, or may not"}


class Sender:
    """Sends the steps of one change into one system, stage by stage.

    ``states`` takes down how steps stand.
    """

    def __init__(
        self,
        session: Session,
        actual: Actual,
        journal: Journal,
        number: int,
        told: Callable[[int], None],
        how: How,
        states: dict[int, State],
    ) -> None:
        self.session, self.actual, self.journal, self.number = session, actual, journal, number
        self.committer = Committer(session, as_one=how.as_one, note=how.note or f"change {number}")
        self.lookout = Lookout(session, type(actual))
        self.told, self.how, self.states = told, how, states
        #: Gives the secret that a reference names.
        self.reveal: Callable[[str], str] | None = None
        #: Gives steps what only their devices know, just before they are sent; or says why that cannot be had.
        self.asks: Callable[[Sequence[Step]], Awaitable[list[Step | str]]] | None = None
        #: Since when the fields of records are as they were read now, in words, by record id and field.
        self.since: Callable[[str, pl.DataFrame], Mapping[str, Mapping[str, str]]] | None = None
        self._retold = set[int]()
        #: The change's own, of which the keys are made by which a system knows a repetition.
        self.token: str | None = None
        self.dialect = session.dialect
        #: What became of steps that come into effect as one, until that is known.
        self._kept: dict[int, Outcome] = {}
        #: Steps as the system says that it has done them, and those of which nobody knows.
        self.written: dict[int, Step] = {}
        self.unknown: dict[int, Step] = {}
        #: What steps leave as others have made it.
        self.spared: dict[int, str] = {}
        #: Why nothing more is sent: what is under way ends first.
        self.ended: WireError | None = None
        self._forbidden, self._allowed, self._finished = 0, False, False

    async def stage(self, steps: list[Step]) -> None:
        """Send steps of one table and action, at most so many requests at once."""
        if len({step.table for step in steps}) > 1:
            await self._together(steps)
            return
        action = steps[0].action
        write = writable(self.dialect, steps[0].table, self.session.endpoint.name)
        if any(step.state in AWAY for step in steps):
            self.committer.expect(write)
        ready = await self._standing(steps)
        send = {"create": self._create, "update": self._update, "delete": self._delete, "act": self._act}[action]
        how = {"create": write.create, "update": write.update, "delete": write.delete}.get(action)
        parts = lists(ready, self._most(how))
        await at_most(self.dialect.limits.concurrency, [partial(self._unless_ended, send, write, p) for p in parts])

    async def _unless_ended(
        self, send: Callable[[d.Write, list[Step]], Awaitable[None]], write: d.Write, steps: list[Step]
    ) -> None:
        """Send steps, unless something has shown meanwhile that nothing more should leave."""
        if self.ended is None:
            await send(write, steps)

    def _most(self, how: d.Create | d.Update | d.Delete | d.Together | None) -> int:
        """How many records go in one request; what is guarded by its tag, or sent whole, goes by itself."""
        alone = getattr(how, "etag", False) or getattr(how, "whole", None)
        return min(how.most, self.how.most or how.most) if how and not alone else 1

    async def _standing(self, steps: Sequence[Step]) -> list[Step]:
        """Steps that are still to be sent; how the others stand is settled."""
        if not steps:
            return []
        if steps[0].action == "create":
            found = of_creations(self.actual, steps)
        else:
            parts = self.how.field_by_field
            found = of_the_rest(self.actual, steps, regardless=self.how.regardless, field_by_field=parts)
            self.spared |= found.spared
            found.settled += self._altered(found.altered)
        self.settle(found.settled)
        again = await self._arrived(found.doubtful) if found.doubtful else []
        return sorted([*found.ready, *again], key=lambda step: step.number)

    def _altered(self, torn: Sequence[tuple[Step, list[str]]]) -> list[Outcome]:
        """Steps that others' edits stand against: both values, and since when theirs is there."""
        moments: Mapping[str, Mapping[str, str]] = {}
        if torn and self.since:
            table, ids = torn[0][0].table, [step.record_id or "" for step, _ in torn]
            moments = self.since(table, self.actual.live[table].filter(pl.col("record_id").is_in(ids)))
        words = partial(in_words, self.actual)
        return [(step, "held", words(step, names, moments.get(step.record_id or "")), None) for step, names in torn]

    async def _arrived(self, steps: Sequence[Step]) -> list[Step]:
        """Of steps that an earlier run sent and that do not show, those that may be sent again after a second look."""
        since = max(step.sent or 0.0 for step in steps)
        left = await self._look(steps, "the run that sent it was cut off", since)
        if self.how.send_again or self.how.as_one:  # what was only staged, in a session that ended, has no effect
            return left
        self.settle([(step, "unknown", step.reason or _not_seen("sent before"), None) for step in left])
        return []

    async def _look(self, steps: Sequence[Step], why: str, since: float | None = None) -> list[Step]:
        """Steps that do not show at the system, however long it may take to settle; those that do are settled."""
        acts = [step for step in steps if step.action == "act" and not self.actual.can_show(step)]
        rest = [step for step in steps if step not in acts]
        if not rest:
            return acts
        await self.committer.settle(writable(self.dialect, steps[0].table, self.session.endpoint.name))
        return acts + await self.lookout.until(rest, partial(self.seen, why), since)

    async def identify(self, steps: Sequence[Step]) -> None:
        """Look up the ids of records that we have just made and that others will refer to: they are not believed."""
        if self.how.as_one or not any(self._is_written(step) for step in steps):
            return
        mine = [self.written[step.number] for step in steps if step.number in self.written]
        left = await self.lookout.until(mine, self._known_by_key)
        self.actual.forget(left)
        self.settle(
            [(step, "unknown", _not_seen("the system says that it made it"), None) for step in left], ended=False
        )

    def _known_by_key(self, now: Actual, steps: Sequence[Step]) -> list[Step]:
        self.actual.learn(now, steps[0].table)
        return [step for step in steps if not now.bearers(step)]

    def seen(self, why: str, now: Actual, steps: Sequence[Step]) -> list[Step]:
        """Steps that do not show in a reading; those that do are written, although the system did not say so."""
        left, settled = [], list[Outcome]()
        if not steps:
            return []
        for step in steps:
            if step.action == "create":
                there = now.bearers(step)
                if there:
                    settled.append((step, "written", f"made, although: {why}", there[0] if len(there) == 1 else None))
            elif is_done(now, step):
                settled.append((step, "written", f"done, although: {why}", None))
            if not settled or settled[-1][0] is not step:
                left.append(step)
        self.actual.learn(now, steps[0].table)
        self.settle(settled)
        return left

    async def _in_doubt(self, steps: Sequence[Step], error: WireError) -> None:
        """After an answer that does not say what was done, look; what does not show is unknown, and not sent again."""
        try:
            left = await self._look(steps, error.what)
        except WireError as blind:
            left = [step for step in steps if not self._is_written(step)]
            why = f"{error}; and it could not be looked up: {blind}"
        else:
            why = str(error)
        self.settle([(step, "unknown", _not_seen(why), None) for step in left])

    def _is_written(self, step: Step) -> bool:
        kept = self._kept.get(step.number)
        return step.number in self.written or (kept is not None and kept[1] == "written")

    async def _together(self, steps: list[Step]) -> None:
        """Send creations of several tables in one call; what does not come through so goes table by table."""
        how = self.dialect.together
        assert how
        ready = [step for mine in stages(steps) for step in await self._standing(mine)]
        for part in lists(ready, self._most(how)):
            if self.ended or await self._in_one_call(how, part):
                continue
            for found in stages(part):
                write = writable(self.dialect, found[0].table, self.session.endpoint.name)
                for layer in self.actual.layers(found):
                    for some in lists(layer, self._most(write.create)):
                        await self._unless_ended(self._create, write, some)

    async def _in_one_call(self, how: d.Together, part: list[Step]) -> bool:
        """Send creations of several tables together; whether that settled them, and be it that nobody knows."""
        mine = {found[0].table: found for found in stages(part)}
        writes = {table: writable(self.dialect, table, self.session.endpoint.name) for table in mine}
        ids = {table: self.dialect.tables[table].fields["record_id"].from_[0] for table in mine}
        try:
            bodies = self._all_bodies(how, writes, mine)
            self.journal.sending(self.number, part)
            made = await self.committer.in_effect(
                writes.values(), partial(create_together, self.session, how, bodies, ids)
            )
        except (RequestRefused, CalledWrongly):
            return False
        except SignInRefused as error:
            self._end(part, error)
        except WireError as error:
            if error.untouched:
                return False
            for found in mine.values():
                await self._in_doubt(found, error)
        else:
            for table, found in mine.items():
                self._made(found, made[table])
        return True

    def _all_bodies(
        self, how: d.Together, writes: Mapping[str, d.Write], steps: Mapping[str, Sequence[Step]]
    ) -> dict[str, list[dict[str, Any]]]:
        """What is sent of each table; each record is known, for those that come after it, by its place in the call."""
        bodies: dict[str, list[dict[str, Any]]] = {}
        places: dict[str, list[str]] = {}
        try:
            for table, found in steps.items():
                for at, step in enumerate(found):
                    bodies.setdefault(table, []).append(self.actual.body(writes[table], step))
                    if how.refers:
                        place = how.refers.format(member=how.tables[table], at=at)
                        self.actual.made(step, place)
                        places.setdefault(table, []).append(place)
        finally:  # outside of the call they mean nothing
            for table, named in places.items():
                self.actual.gone(table, named)
        return bodies

    def _made(self, steps: Sequence[Step], numbers: Sequence[Any]) -> None:
        """What the system says that it has made."""
        settled = list[Outcome]()
        for step, number in zip(steps, numbers, strict=True):
            if isinstance(number, Refusal):
                settled.append((step, "refused", number.reason, None))
            else:
                self.actual.made(step, number)
                settled.append((step, "written", None, str(number)))
        self.settle(settled)

    async def finish(self) -> None:
        """Commit what was staged as one, or take all of it back where a step is not done; or leave it staged."""
        kept, self._kept, self._finished = list(self._kept.values()), {}, True
        allowed = ("written",) if self.how.all_of_it else ("written", "refused", "held")
        undone = ((step, _STANDS.get(state, "is not done")) for step, state, *_ in kept if state not in allowed)
        against = next((f"{step.table}/{step.label} {stands}" for step, stands in undone), None)
        against = against or (str(self.ended) if self.ended else None)
        if self.committer.waiting and self.how.stage and not against:
            self.committer.leave()
            self.settle([(step, state, STAGED, rid) for step, state, _, rid in kept], ended=False)
        elif why := await self.committer.end(against) or against:
            self.settle(
                [(step, "ready", _back(state, reason, why), None) for step, state, reason, _ in kept], ended=False
            )
        else:
            self.settle(kept, ended=False)

    def settle(self, outcomes: Sequence[Outcome], *, ended: bool = True) -> None:
        """Write down what became of steps; of those that come into effect as one, at the end."""
        settled = [one for one in outcomes if not self._keeps(one)]
        if settled:
            self.journal.settled(self.number, settled)
            self.states |= {step.number: state for step, state, _, _ in settled}
        for step, state, reason, record_id in settled:
            self.written.pop(step.number, None)
            self.unknown.pop(step.number, None)
            if state in ("written", "unknown"):
                into = self.written if state == "written" else self.unknown
                into[step.number] = replace(step, state=state, reason=reason, record_id=record_id or step.record_id)
        if ended and outcomes:
            self.told(len(outcomes))

    def _keeps(self, outcome: Outcome) -> bool:
        """Whether what became of a step waits for the end: all are done then, or none, and its last word counts."""
        step, state, *_ = outcome
        write = self.dialect.tables[step.table].write
        if self._finished or not self.how.as_one or step.action == "act" or write is None or write.commit is None:
            return False
        if state == "written" and not self.committer.waiting:  # it was so before anything was staged
            self._kept.pop(step.number, None)
            return False
        self._kept[step.number] = outcome
        return state in ("refused", "held", "unknown", "written")  # others are written down at once, too

    async def _once(
        self,
        write: d.Write,
        steps: list[Step],
        send: Callable[[], Awaitable[Any]],
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
        done: Callable[[Any], None],
    ) -> None:
        """Send steps once, and take down what came of it.

        They are sent again at once only while the system cannot have taken them; ``again`` sends a smaller list,
        where one of it was refused, ``done`` takes the answer.
        """
        for tried in range(1, self.dialect.limits.tries + 1):
            self.journal.sending(self.number, steps)
            try:
                answer = await self.committer.in_effect([write], send)
            except Conflict as conflict:  # nothing of ours is there; going on looks anew, and then sends
                self.settle([(step, "ready", conflict.why or str(conflict), None) for step in steps])
            except RequestRefused as refusal:
                await self._refused(write, steps, refusal, again)
            except SignInRefused as refusal:
                await self._forbid(write, steps, refusal, again)
            except WireError as error:
                if not error.untouched:
                    await self._in_doubt(steps, error)
                elif tried == self.dialect.limits.tries or self.ended:
                    self._end(steps, error)
                else:
                    self.settle([(step, "ready", f"not taken: {error}", None) for step in steps], ended=False)
                    await asyncio.sleep(0.1 * 2**tried)  # where the system says how long, everybody waits for that
                    continue
            else:
                self._allowed = True
                done(answer)
            return

    def _end(self, steps: Sequence[Step], error: WireError) -> None:
        """Send nothing more: ``steps`` had no effect, and further ones would have none either."""
        self.settle([(step, "ready", str(error), None) for step in steps], ended=False)
        self.ended = self.ended or error

    async def _forbid(
        self,
        write: d.Write,
        steps: list[Step],
        refusal: SignInRefused,
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
    ) -> None:
        """A record that we may not touch costs that record; where we may touch none, the run ends."""
        self._forbidden += len(steps) == 1 and not self._allowed
        if refusal.http != 403 or self._forbidden > _FORBIDDEN:
            self._end(steps, refusal)
        else:
            refused = RequestRefused(refusal.what, http=refusal.http, where=refusal.where, why=refusal.why)
            await self._refused(write, steps, refused, again)

    async def _create(self, write: d.Write, steps: list[Step]) -> None:
        """Send creations as one list; refused ones are named and the others go in a smaller list."""
        assert write.create
        record_id = self.dialect.tables[steps[0].table].fields["record_id"].from_[0]
        steps = await self._asked(steps)
        steps = await self._restored(write, steps)
        steps, bodies = self._sayable(write, steps)
        if steps:
            known = self._known(write.create, steps, bodies)
            send = partial(create, self.session, write.create, known, record_id, self._key(steps))
            await self._once(write, steps, send, self._create, partial(self._made, steps))

    async def _restored(self, write: d.Write, steps: list[Step]) -> list[Step]:
        """Steps that are to be made anew; those that an undo finds in the system's bin are taken out of it."""
        how = write.delete.restore if write.delete else None
        left = []
        for step in steps:
            there = self.actual.in_bin(step) if how and step.again else None
            if there is None or how is None:
                left.append(step)
                continue
            found = replace(step, record_id=there)
            send = partial(act, self.session, how, there, {}, self._key([step]))
            taken: Outcome = (found, "written", "taken out of the bin", there)
            await self._once(write, [found], send, self._create, partial(self._took, taken))
        return left

    def _took(self, taken: Outcome, _answer: Any) -> None:
        self.settle([taken])

    async def _asked(self, steps: list[Step]) -> list[Step]:
        """Steps with what only their devices know, as they show it just now; who does not answer is held."""
        if self.asks is None:
            return steps
        told = await self.asks(steps)
        silent = [(step, "held", one, None) for step, one in zip(steps, told, strict=True) if isinstance(one, str)]
        self.settle(cast("list[Outcome]", silent))
        return [one for one in told if isinstance(one, Step)]

    def _sayable(self, write: d.Write, steps: Sequence[Step]) -> tuple[list[Step], list[dict[str, Any]]]:
        """Steps, with what is sent for each; those that refer to what was not made after all are held."""
        found, bodies, settled = list[Step](), [], list[Outcome]()
        for step in steps:
            try:
                bodies.append(self.actual.body(write, self._revealed(write, step)))
                found.append(step)
            except (CalledWrongly, SecretError) as lack:
                settled.append((step, "held", lack.what, None))
        self.settle(settled)
        return found, bodies

    def _revealed(self, write: d.Write, step: Step) -> Step:
        """A step with the secrets that its values only name: in memory, for as long as it is sent."""
        named = {n: str(step.shall[n]) for n, spec in write.fields.items() if spec.secret and step.shall.get(n)}
        if not named or self.reveal is None:
            return step
        values = {name: self.reveal(reference) for name, reference in named.items()}
        self.session.keep_unseen(values.values())
        return replace(step, shall={**step.shall, **values})

    async def _refused(
        self,
        write: d.Write,
        steps: list[Step],
        refusal: RequestRefused,
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
    ) -> None:
        """Nothing of the list was done: set the bad ones aside, or find them by halving."""
        bodies = self._sayable(write, steps)[1] if steps[0].action in ("create", "update") else [{} for _ in steps]
        named = {found.index: found.reason for found in refusals(refusal, write.refusals, bodies)}
        if len(steps) == 1 and self.asks and steps[0].action == "create" and steps[0].number not in self._retold:
            self._retold.add(steps[0].number)  # what its device showed may have lived out on the way: once more
            await self._unless_ended(again, write, steps)
            return
        if len(steps) == 1:
            self.settle([(steps[0], "refused", named.get(0) or refusal.why or str(refusal), None)])
            return
        self.settle([(steps[at], "refused", reason, None) for at, reason in named.items()])
        rest = [step for at, step in enumerate(steps) if at not in named]
        for part in [rest] if named and rest else halves(rest):
            if part:
                await self._unless_ended(again, write, part)

    async def _update(self, write: d.Write, steps: list[Step]) -> None:
        """Send updates: one, or as many as the system takes in one call."""
        if write.update is None:
            self.settle([(step, "held", "the dialect does not say how to update one", None) for step in steps])
            return
        steps, bodies = self._sayable(write, steps)
        if not steps:
            return
        ids = [self.actual.own_id(step.table, step.record_id or "") for step in steps]
        if write.update.most > 1 and not write.update.etag and not write.update.whole:
            send: Callable[[], Awaitable[Any]] = partial(
                update_many, self.session, write.update,
                list(zip(ids, self._known(write.update, steps, bodies), strict=True)), self._key(steps),
            )  # fmt: skip
        else:
            (step,) = steps
            resting = await self._resting(write.update, step)
            if resting is None:
                return
            send = partial(
                update, self.session, write.update, step.record_id or "",
                self._known(write.update, steps, bodies)[0], self._now(step), resting[0], ids[0], self._key(steps),
            )  # fmt: skip
        await self._once(write, steps, send, self._update, partial(self._done, steps))

    async def _resting(self, how: d.Update | d.Delete, step: Step) -> tuple[Base | None] | None:
        """What a write rests on, in a tuple of one; nothing where that settled the step, since it does not stand."""
        try:
            base = await base_of(self.session, how, step.record_id or "", self._now(step))
        except BadAnswer as error:
            self.settle([(step, "held", str(error), None)])
            return None
        except RequestRefused as refusal:
            gone = "the record is gone since the preview" if refusal.http in (404, 410) else str(refusal)
            self.settle([(step, "held", gone, None)])
            return None
        except WireError as error:
            self._end([step], error)
            return None
        moved = self.actual.moved(step, base.record) if base and not self.how.regardless else {}
        if moved:
            now = ", ".join(f"{name} is now {shown(value)}" for name, value in moved.items())
            self.settle([(step, "held", f"changed there just now: {now}", None)])
            return None
        return (base,)

    def _done(self, steps: Sequence[Step], refused: Any) -> None:
        bad = {one.index: one.reason for one in refused or ()}
        self.settle([
            (step, "refused" if place in bad else "written", bad.get(place), None) for place, step in enumerate(steps)
        ])  # fmt: skip

    def _key(self, steps: Sequence[Step]) -> str | None:
        """By what a system knows a request again: the same for the same steps of a change, however often it is sent."""
        numbers = ",".join(str(step.number) for step in steps)
        return str(uuid5(UUID(self.token), numbers)) if self.token else None

    def _known(
        self, how: d.Send, steps: Sequence[Step], bodies: Sequence[Mapping[str, Any]]
    ) -> Sequence[Mapping[str, Any]]:
        """What is sent of each step, with the member by which the system knows it again."""
        if how.idempotency is None or how.idempotency.startswith("header:"):
            return bodies
        return [{**body, how.idempotency: self._key([step])} for step, body in zip(steps, bodies, strict=True)]

    async def _delete(self, write: d.Write, steps: list[Step]) -> None:
        """Send deletions as one list."""
        if write.delete is None:
            self.settle([(step, "held", "the dialect does not say how to delete one", None) for step in steps])
            return
        ids = [step.record_id or "" for step in steps]
        resting = await self._resting(write.delete, steps[0]) if write.delete.etag else (None,)
        if resting is None:
            return
        own = [self.actual.own_id(step.table, step.record_id or "") for step in steps]
        key = self._key(steps)
        send = partial(delete, self.session, write.delete, ids, self._now(steps[0]), resting[0], own, key)
        await self._once(write, steps, send, self._delete, partial(self._deleted, steps))

    def _deleted(self, steps: Sequence[Step], refused: Any) -> None:
        self.actual.gone(steps[0].table, [step.record_id or "" for step in steps])
        self._done(steps, refused)

    async def _act(self, write: d.Write, steps: list[Step]) -> None:
        """Do to a record what the dialect calls by a name."""
        step = self.actual.located(steps[0])
        how = write.acts[step.act or ""]
        try:
            values = {**(self._now(step) or {}), **self.actual.aim(step)}
        except CalledWrongly as lack:
            self.settle([(step, "held", lack.what, None)])
            return
        send = partial(act, self.session, how, step.record_id or "", values, self._key(steps))
        taken: Outcome = (step, "written" if how.shows else "confirmed", "the system took it", None)
        await self._once(
            write.model_copy(update={"commit": None}), steps, send, self._act, lambda _: self.settle([taken])
        )

    def _now(self, step: Step) -> dict[str, Any] | None:
        return self.actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")


def _not_seen(why: str) -> str:
    """Why nobody knows whether a step was done."""
    return f"it may have arrived, and does not show: {why}"


def _back(state: State, reason: str | None, why: str) -> str:
    """Why a step that comes into effect with others is to be done anew: its own reason, or else theirs."""
    if state in ("written", "unknown"):
        return why
    return f"{state}: {reason}" if state in _STANDS else reason or why
