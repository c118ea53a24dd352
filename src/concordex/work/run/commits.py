"""Putting into effect what a system only stages: list by list, or all of a change as one."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Sequence
from contextlib import suppress
from typing import NamedTuple, TypeVar

from concordex.again import retry_context
from concordex.change.reasons import Reasons, Why, because, resting
from concordex.errors import ConcordexError, RequestRefused, SignInRefused, Unreachable, WireError
from concordex.wire import dialect as d
from concordex.wire.http.session import Session
from concordex.wire.writing.records import commit
from concordex.wire.writing.staging import Pending, discard

T = TypeVar("T")

#: How often a commit that fails is tried again: twice is the same as once.
_TRIES = 3


class NotInEffect(NamedTuple):
    """Why what was staged is not in effect."""

    why: Reasons


class Committer:
    """Commits the writes of one run.

    One write at a time where a system stages, so that nobody's commit takes another's writes along, or away.
    With ``as_one`` there is one commit at the end, for everything or for nothing.
    """

    def __init__(self, session: Session, *, as_one: bool, note: str = "") -> None:
        self.session, self.as_one, self.note = session, as_one, note
        self._lock = asyncio.Lock()
        staging = session.dialect.staging
        self._outlasts = staging is not None and staging.outlasts_session
        self._opened: int | None = None  # how often it was signed in when the first write was staged
        self._how: d.Send | None = None
        self._opened_in_vain = False

    @property
    def waiting(self) -> bool:
        """Whether something is staged that waits for the one commit."""
        return self._opened is not None

    def waits(self, write: d.Write | None) -> bool:
        """Whether a write comes into effect with all others, by the one commit."""
        return self.as_one and write is not None and write.commit is not None

    def expect(self, write: d.Write) -> None:
        """Be ready for what an earlier run may have staged, and not committed."""
        if self.as_one and write.commit:
            self._begin(write.commit)

    def _begin(self, how: d.Send) -> None:
        if self._opened is None:
            self._opened, self._how = self.session.openings, how

    async def in_effect(self, writes: Iterable[d.Write], send: Callable[[], Awaitable[T]]) -> T:
        """What ``send`` gives, once that is in effect, or staged for the one commit.

        After a refused commit nothing of ours stays staged, and who else has something staged is told.
        """
        commits = [write.commit for write in writes if write.commit]
        if not commits:
            return await send()
        async with self._lock:
            opened = self.session.openings
            try:
                made = await send()
            except (RequestRefused, SignInRefused):
                self._opened_in_vain = self._opened_in_vain or self.as_one  # the first call may have opened a draft
                raise
            except WireError:  # perhaps it is staged: then it must not be taken for done without a commit
                if self.as_one:
                    self._begin(commits[0])
                raise
            if self.as_one:
                self._begin(commits[0])
                return made
            try:
                await self._commit(commits[0])
            except RequestRefused as refusal:
                refusal.because = (await self._taken_back(refusal)).why
                raise
            if opened and self._is_lost(opened):
                where = self.session.endpoint.name
                raise Unreachable("the session ended before its writes were committed", where=where)
        return made

    async def settle(self, write: d.Write) -> None:
        """Commit before a look, list by list: what is only staged would look as if it were there."""
        if write.commit and not self.as_one:
            async with self._lock:
                await self._commit(write.commit)

    async def end(self, against: Reasons) -> NotInEffect | None:
        """Commit what is staged as one; why it was taken back instead, or lost.  ``against``: what forbids it."""
        opened, how = self._opened, self._how
        self._opened = self._how = None
        if how is None:
            if self._opened_in_vain:  # nothing was staged, and nothing is left open behind us
                await discard(self.session)
            return None
        if against:
            return _taken_back(against, await discard(self.session))
        if not self._is_lost(opened):
            try:
                await self._commit(how)
            except RequestRefused as refusal:
                return await self._taken_back(refusal)
            if not self._is_lost(opened):
                return None
        await discard(self.session)  # a session that began since holds a part at the most
        return NotInEffect(because(Why.LOST))

    def _is_lost(self, opened: int | None) -> bool:
        """Whether the session that staged has ended, and what it staged with it."""
        return not self._outlasts and self.session.openings != opened

    def leave(self) -> None:
        """Leave staged what is staged: somebody commits it later."""
        self._opened = self._how = None

    async def abandon(self) -> None:
        """Take back what is staged, as well as that can be done, since the run ends here."""
        if self.waiting:
            with suppress(ConcordexError):
                await discard(self.session)

    async def _taken_back(self, refusal: RequestRefused) -> NotInEffect:
        why = because(Why.UNCOMMITTED, text=refusal.why or refusal.what)
        return _taken_back(why, await discard(self.session))

    async def _commit(self, how: d.Send) -> None:
        attempts = retry_context(on=_may_pass, attempts=_TRIES, timeout=None, wait_initial=0.2, wait_jitter=0)
        async for attempt in attempts:
            with attempt:
                await commit(self.session, how, self.note)


def _may_pass(error: Exception) -> bool:
    """Whether a commit, which twice is as once, may be tried again: nobody refused it."""
    return isinstance(error, WireError) and not isinstance(error, RequestRefused | SignInRefused)


def _taken_back(why: Reasons, others: Sequence[Pending]) -> NotInEffect:
    """Why it was taken back, and who else has something staged."""
    documents = [{"who": staged.who, "since": staged.since, "what": staged.what} for staged in others]
    return NotInEffect(resting(Why.TAKEN_BACK, why, others=documents))
