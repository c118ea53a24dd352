"""Sending steps: written down first, sent once, looked for when the answer does not say what was done."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, cast

import polars as pl

from concordex.change.batches import halves, lists, stages
from concordex.change.reasons import Reasons, Why, because, resting
from concordex.change.run_options import RunOptions
from concordex.change.steps import Outcome, Step
from concordex.errors import (
    BadAnswer,
    CalledWrongly,
    ConcordexError,
    Conflict,
    RequestRefused,
    SecretError,
    SignInRefused,
    WireError,
)
from concordex.parallel import at_most
from concordex.wire import dialect as d
from concordex.wire.writing.records import (
    Refusal,
    Tagged,
    base_of,
    create,
    create_together,
    delete,
    perform,
    refusals,
    update,
    update_many,
)
from concordex.work.run.bodies import Bodies
from concordex.work.run.commits import Committer
from concordex.work.run.doubt import Settlement, not_seen
from concordex.work.run.earlier import Earlier, Sent
from concordex.work.run.ledger import Ledger
from concordex.work.run.precheck import AWAY, changed, of_creations, of_the_rest
from concordex.work.run.writer import Writer
from concordex.work.targets.api_target import ApiTarget
from concordex.work.targets.records import writable

#: Since when fields are as they are, by record id and field.
Moments = Mapping[str, Mapping[str, Mapping[str, str]]]

#: Records that may be forbidden (403) one by one while nothing was allowed; then it is the right that lacks.
_FORBIDDEN = 3

#: States of a step in which it has no effect, and why is told with the state where others take it along.
_NO_EFFECT = ("refused", "held")


class Sender(Writer):
    """Sends the steps of one change into one system, stage by stage.

    asks   gives steps what only their devices know, just before they are sent; or says why that cannot be had
    since  since when the fields of records are as they were read now, by record id and field
    unsettled  creations of other changes of which nobody knows what they came to, with the numbers of these
    """

    def __init__(
        self,
        bodies: Bodies,
        ledger: Ledger,
        committer: Committer,
        how: RunOptions,
        *,
        asks: Callable[[Sequence[Step]], Awaitable[list[Step | Reasons]]] | None = None,
        since: Callable[[str, pl.DataFrame], Moments] | None = None,
        unsettled: Callable[[], Sent] = list,
    ) -> None:
        self.bodies, self.ledger, self.how, self.asks, self.since = bodies, ledger, how, asks, since
        self.actual, self.session, self.committer = bodies.actual, bodies.actual.session, committer
        self.dialect = self.session.dialect
        self.doubt = Settlement(self.actual, ledger, committer)
        self.earlier = Earlier(self.actual, unsettled)
        self.spared: dict[int, Reasons] = {}
        self.ended: ConcordexError | None = None
        self._retold = set[int]()
        self._forbidden, self._allowed = 0, False

    async def stage(self, steps: list[Step]) -> None:
        """Send steps of one table and action, at most so many requests at once."""
        if len({step.table for step in steps}) > 1:
            await self._together(steps)
            return
        action = steps[0].operation
        write = writable(self.dialect, steps[0].table, self.session.endpoint.name)
        if any(step.state in AWAY for step in steps):
            self.committer.expect(write)
        ready = await self._standing(steps)
        send = {"create": self._create, "update": self._update, "delete": self._delete, "action": self._act}[action]
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
        return min(how.batch_size, self.how.batch_size or how.batch_size) if how and not alone else 1

    async def _standing(self, steps: Sequence[Step]) -> list[Step]:
        """Steps that are still to be sent; how the others stand is settled."""
        if not steps:
            return []
        if steps[0].operation == "create":
            checked = of_creations(self.actual, steps)
            self.earlier.hold(checked)
        else:
            parts = self.how.field_by_field
            checked = of_the_rest(self.actual, steps, force=self.how.force, field_by_field=parts)
            self.spared |= checked.spared
            checked.settled += self._altered(checked.altered)
        self.ledger.settle(checked.settled)
        again = await self._arrived(checked.doubtful) if checked.doubtful else []
        return sorted([*checked.ready, *again], key=lambda step: step.number)

    def _altered(self, torn: Sequence[tuple[Step, list[str]]]) -> list[Outcome]:
        """Steps that others' edits stand against: both values, and since when theirs is there."""
        moments: Moments = {}
        if torn and self.since:
            table, ids = torn[0][0].table, [step.record_id or "" for step, _ in torn]
            frame = self.actual.looks[table].frame
            moments = self.since(table, frame.filter(pl.col("record_id").is_in(ids)))
        reasons = partial(changed, self.actual)
        return [Outcome(step, "held", reasons(step, names, moments.get(step.record_id or ""))) for step, names in torn]

    async def _arrived(self, steps: Sequence[Step]) -> list[Step]:
        """Of steps that an earlier run sent and that do not show, those that may be sent again after a second look."""
        since = max(step.sent or 0.0 for step in steps)
        left = await self.doubt.look(steps, because(Why.CUT_OFF), since)
        if self.how.send_again or self.how.as_one:  # what was only staged, in a session that ended, has no effect
            return left
        self.ledger.settle([Outcome(step, "unknown", step.why or not_seen(because(Why.SENT_BEFORE))) for step in left])
        return []

    async def identify(self, steps: Sequence[Step]) -> None:
        """Look up the ids of records that we have just made and that others will refer to: they are not believed."""
        if not self.how.as_one:
            await self.doubt.identify(steps)

    def seen(self, why: Reasons, now: ApiTarget, steps: Sequence[Step]) -> list[Step]:
        """Steps that do not show in a reading; those that do are written, although the system did not say so."""
        return self.doubt.seen(why, now, steps)

    async def _together(self, steps: list[Step]) -> None:
        """Send creations of several tables in one call; what does not come through so goes table by table."""
        how = self.dialect.together
        assert how
        ready = [step for mine in stages(steps) for step in await self._standing(mine)]
        for part in lists(ready, self._most(how)):
            if self.ended or await self._in_one_call(how, part):
                continue
            for stage in stages(part):
                write = writable(self.dialect, stage[0].table, self.session.endpoint.name)
                for layer in self.actual.layers([step for step in stage if self.ledger.is_open(step)]):
                    for some in lists(layer, self._most(write.create)):
                        await self._unless_ended(self._create, write, some)

    async def _in_one_call(self, how: d.Together, part: list[Step]) -> bool:
        """Send creations of several tables together; whether that settled them, and be it that nobody knows."""
        mine = {stage[0].table: stage for stage in stages(part)}
        writes = {table: writable(self.dialect, table, self.session.endpoint.name) for table in mine}
        ids = {table: self.dialect.tables[table].fields["record_id"].from_[0] for table in mine}
        try:
            bodies = self.bodies.together(how, writes, mine)
            self.ledger.mark_sent(part)
            made = await self.committer.in_effect(
                writes.values(), partial(create_together, self.session, how, bodies, ids)
            )
        except (CalledWrongly, SecretError):
            return False
        except RequestRefused as refusal:
            for stage in mine.values():
                await self._left_of(how, stage, refusal)
            return False
        except SignInRefused as error:
            self._end(part, error)
        except WireError as error:
            for stage in mine.values():
                await (self._left_of(how, stage, error) if error.untouched else self.doubt.settle(stage, error))
            return not error.untouched
        else:
            for table, stage in mine.items():
                self._made(stage, made[table])
        return True

    def _made(self, steps: Sequence[Step], numbers: Sequence[Any]) -> None:
        """What the system says that it has made."""
        settled = list[Outcome]()
        for step, number in zip(steps, numbers, strict=True):
            if isinstance(number, Refusal):
                settled.append(Outcome(step, "refused", because(Why.SAID, text=number.reason)))
            else:
                self.actual.made(step, number)
                settled.append(Outcome(step, "written", (), str(number)))
        self.ledger.settle(settled)

    async def finish(self) -> None:
        """Commit what was staged as one, or take all of it back where a step is not done; or leave it staged."""
        kept = self.ledger.close()
        allowed = ("written",) if self.how.all_of_it else ("written", "refused", "held")
        undone = [outcome for outcome in kept if outcome.state not in allowed]
        against: Reasons = because(Why.ERROR, text=str(self.ended)) if self.ended else ()
        if undone:
            first = undone[0]
            against = because(Why.STANDS, step=f"{first.step.table}/{first.step.label}", state=first.state)
        if self.committer.waiting and self.how.stage and not against:
            self.committer.leave()
            self.ledger.settle([outcome._replace(why=because(Why.STAGED)) for outcome in kept], ended=False)
        elif (failed := await self.committer.end(against)) or against:
            why = failed.why if failed else against
            self.ledger.settle([_back(outcome, why) for outcome in kept], ended=False)
        else:
            self.ledger.settle(kept, ended=False)

    async def abandon(self) -> None:
        """Take back what is staged, as well as that can be done, since the run ends here."""
        await self.committer.abandon()

    async def _once(
        self,
        write: d.Write,
        steps: list[Step],
        send: Callable[[], Awaitable[Any]],
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
        done: Callable[[Any], object],
    ) -> None:
        """Send steps once, and take down what came of it.

        They are sent again at once only while the system cannot have taken them; ``again`` sends a smaller list,
        where one of it was refused, ``done`` takes the answer.
        """
        for tried in range(1, self.dialect.limits.tries + 1):
            self.ledger.mark_sent(steps)
            try:
                answer = await self.committer.in_effect([write], send)
            except Conflict as conflict:  # nothing of ours is there; going on looks anew, and then sends
                self.ledger.settle([Outcome(step, "ready", _refusal(None, conflict)) for step in steps])
            except RequestRefused as refusal:
                await self._refused(write, steps, refusal, again)
            except SignInRefused as refusal:
                await self._forbid(write, steps, refusal, again)
            except WireError as error:
                if await self._put_off(write, steps, error, again, last=tried == self.dialect.limits.tries):
                    await asyncio.sleep(0.1 * 2**tried)  # where the system says how long, everybody waits for that
                    continue
            else:
                self._allowed = True
                done(answer)
            return

    async def _put_off(
        self,
        write: d.Write,
        steps: list[Step],
        error: WireError,
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
        *,
        last: bool,
    ) -> bool:
        """Whether steps had no effect and may be sent once more; settled is what had some, or may have had."""
        if not error.untouched:
            await self.doubt.settle(steps, error)
            return False
        left = await self._left_of(write.create, steps, error) if _is_list(steps) else steps
        if len(left) < len(steps):
            if left:
                await self._unless_ended(again, write, left)
            return False
        if last or self.ended:
            self._end(steps, error)
            return False
        why = because(Why.NOT_TAKEN, text=str(error))
        self.ledger.settle([Outcome(step, "ready", why) for step in steps], ended=False)
        return True

    def _end(self, steps: Sequence[Step], error: WireError) -> None:
        """Send nothing more: ``steps`` had no effect, and further ones would have none either."""
        why = because(Why.ERROR, text=str(error))
        self.ledger.settle([Outcome(step, "ready", why) for step in steps], ended=False)
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
            known = self.bodies.known(write.create, steps, bodies)
            send = partial(create, self.session, write.create, known, record_id, self.bodies.key(steps))
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
            known = replace(step, record_id=there)
            send = partial(perform, self.session, how, there, {}, self.bodies.key([step]))
            taken = Outcome(known, "written", because(Why.RESTORED), there)
            await self._once(write, [known], send, self._create, partial(self._took, taken))
        return left

    def _took(self, taken: Outcome, _answer: Any) -> None:
        self.ledger.settle([taken])

    async def _asked(self, steps: list[Step]) -> list[Step]:
        """Steps with what only their devices know, as they show it just now; who does not answer is held."""
        if self.asks is None:
            return steps
        asked = await self.asks(steps)
        answers = zip(steps, asked, strict=True)
        self.ledger.settle([Outcome(step, "held", answer) for step, answer in answers if not isinstance(answer, Step)])
        return [answer for answer in asked if isinstance(answer, Step)]

    def _sayable(self, write: d.Write, steps: Sequence[Step]) -> tuple[list[Step], list[dict[str, Any]]]:
        """Steps, with what is sent for each; those that refer to what was not made after all are held."""
        sayable, bodies, lacking = self.bodies.sayable(write, steps)
        self.ledger.settle(lacking)
        return sayable, bodies

    async def _refused(
        self,
        write: d.Write,
        steps: list[Step],
        refusal: RequestRefused,
        again: Callable[[d.Write, list[Step]], Awaitable[None]],
    ) -> None:
        """Set the bad ones of a list aside, or find them; what was made of it all the same is not sent again."""
        bodies = (
            self.bodies.sayable(write, steps)[1] if steps[0].operation in ("create", "update") else [{} for _ in steps]
        )
        blamed = refusals(refusal, write.refusals, bodies)
        named = {steps[one.index].number: one.reason for one in blamed}
        if len(steps) == 1 and self.asks and steps[0].operation == "create" and steps[0].number not in self._retold:
            self._retold.add(steps[0].number)  # what its device showed may have lived out on the way: once more
            await self._unless_ended(again, write, steps)
            return
        if len(steps) == 1:
            self.ledger.settle([Outcome(steps[0], "refused", _refusal(named.get(steps[0].number), refusal))])
            return
        whole = steps[0].operation != "create" or _is_untouched(write.create, refusal)
        left = steps if whole else await self._left_of(write.create, steps, refusal)
        bad = [step for step in left if step.number in named]
        self.ledger.settle([Outcome(step, "refused", because(Why.SAID, text=named[step.number])) for step in bad])
        rest = [step for step in left if step.number not in named]
        parts = [rest] if named else halves(rest) if whole else [[step] for step in rest]
        for part in parts:
            if part:
                await self._unless_ended(again, write, part)

    async def _left_of(self, how: d.Create | d.Together | None, steps: list[Step], refusal: WireError) -> list[Step]:
        """What was not made of a list that was refused: many systems go through one until they meet a bad record.

        Or until they are put out of service: a 503 says when to come again, and not how far it came.

        Where it cannot be looked for, nobody knows, and none of it is sent again.
        """
        if _is_untouched(how, refusal):
            return steps
        why = because(Why.ERROR, text=str(refusal))
        try:
            return await self.doubt.look(steps, why, time.time())
        except WireError:
            await self.doubt.settle(steps, refusal)
            return []

    async def _update(self, write: d.Write, steps: list[Step]) -> None:
        """Send updates: one, or as many as the system takes in one call."""
        if write.update is None:
            self.ledger.settle([Outcome(step, "held", because(Why.CANNOT, what="update")) for step in steps])
            return
        steps, bodies = self._sayable(write, steps)
        if not steps:
            return
        ids = [self.actual.own_id(step.table, step.record_id or "") for step in steps]
        known, key = self.bodies.known(write.update, steps, bodies), self.bodies.key(steps)
        if write.update.batch_size > 1 and not write.update.etag and not write.update.whole:
            sent = list(zip(ids, known, strict=True))
            send: Callable[[], Awaitable[Any]] = partial(update_many, self.session, write.update, sent, key)
        else:
            (step,) = steps
            resting = await self._resting(write.update, step)
            if resting is None:
                return
            record_id, now = step.record_id or "", self._now(step)
            send = partial(update, self.session, write.update, record_id, known[0], now, resting[0], ids[0], key)
        await self._once(write, steps, send, self._update, partial(self._done, steps))

    async def _resting(self, how: d.Update | d.Delete, step: Step) -> tuple[Tagged | None] | None:
        """What a write rests on, in a tuple of one; nothing where that settled the step, since it does not stand."""
        try:
            base = await base_of(self.session, how, step.record_id or "", self._now(step))
        except BadAnswer as error:
            self.ledger.settle([Outcome(step, "held", because(Why.ERROR, text=str(error)))])
            return None
        except RequestRefused as refusal:
            gone = refusal.http in (404, 410)
            why = because(Why.GONE) if gone else because(Why.ERROR, text=str(refusal))
            self.ledger.settle([Outcome(step, "held", why)])
            return None
        except WireError as error:
            self._end([step], error)
            return None
        moved = self.actual.moved(step, base.record) if base and not self.how.force else {}
        if moved:
            self.ledger.settle([Outcome(step, "held", because(Why.CHANGED_NOW, fields=moved))])
            return None
        return (base,)

    def _done(self, steps: Sequence[Step], refused: Sequence[Refusal] | None) -> list[Step]:
        """Steps that a good answer says were done; those that it refuses are settled as that."""
        bad = {refusal.index: because(Why.SAID, text=refusal.reason) for refusal in refused or ()}
        self.ledger.settle([
            Outcome(step, "refused" if at in bad else "written", bad.get(at, ())) for at, step in enumerate(steps)
        ])  # fmt: skip
        return [step for at, step in enumerate(steps) if at not in bad]

    async def _delete(self, write: d.Write, steps: list[Step]) -> None:
        """Send deletions as one list."""
        if write.delete is None:
            self.ledger.settle([Outcome(step, "held", because(Why.CANNOT, what="delete")) for step in steps])
            return
        ids = [step.record_id or "" for step in steps]
        resting = await self._resting(write.delete, steps[0]) if write.delete.etag else (None,)
        if resting is None:
            return
        own = [self.actual.own_id(step.table, step.record_id or "") for step in steps]
        key = self.bodies.key(steps)
        send = partial(delete, self.session, write.delete, ids, self._now(steps[0]), resting[0], own, key)
        await self._once(write, steps, send, self._delete, partial(self._deleted, steps))

    def _deleted(self, steps: Sequence[Step], refused: Sequence[Refusal]) -> None:
        self.actual.gone(steps[0].table, [step.record_id or "" for step in self._done(steps, refused)])

    async def _act(self, write: d.Write, steps: list[Step]) -> None:
        """Do to a record what the dialect calls by a name."""
        step = self.actual.located(steps[0])
        how = write.actions[step.action or ""]
        try:
            values = {**(self._now(step) or {}), **self.actual.aim(step)}
        except CalledWrongly as lack:
            self.ledger.settle([Outcome(step, "held", because(Why.ERROR, text=lack.what))])
            return
        send = partial(perform, self.session, how, step.record_id or "", values, self.bodies.key(steps))
        taken = Outcome(step, "written" if how.shows else "confirmed", because(Why.TOOK))
        await self._once(
            write.model_copy(update={"commit": None}), steps, send, self._act, lambda _: self.ledger.settle([taken])
        )

    def _now(self, step: Step) -> dict[str, Any] | None:
        return self.actual.records(step.table, [step.record_id or ""]).get(step.record_id or "")


def _refusal(named: str | None, refusal: RequestRefused) -> Reasons:
    """Why the system refused a step: as it says of it, or of all."""
    if named is None and refusal.because:
        return cast("Reasons", refusal.because)
    return because(Why.SAID, text=named or refusal.why or str(refusal))


#: Statuses by which a system says that it has not looked at what was sent (RFC 9110, section 15.5; RFC 6585).
_UNREAD = frozenset({401, 403, 404, 405, 406, 411, 412, 413, 414, 415, 417, 421, 426, 428, 429, 431})


def _is_untouched(how: d.Create | d.Together | None, refusal: WireError) -> bool:
    """Whether a list that was refused has surely made nothing: it says so, or never reached what would make it."""
    status = getattr(refusal, "http", None)
    return how is None or how.atomic is not None or not status or status in _UNREAD


def _is_list(steps: Sequence[Step]) -> bool:
    """Whether several records are made at once, of which some may be there."""
    return len(steps) > 1 and steps[0].operation == "create"


def _back(outcome: Outcome, why: Reasons) -> Outcome:
    """A step that comes into effect with others, and is to be done anew: for its own reason, or else theirs."""
    if outcome.state in ("written", "unknown"):
        return Outcome(outcome.step, "ready", why)
    own = resting(Why.WAS, outcome.why, state=outcome.state) if outcome.state in _NO_EFFECT else outcome.why
    return Outcome(outcome.step, "ready", own or why)
