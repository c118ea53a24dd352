"""When what is to be told is sent: not in quiet hours, no more often than wanted, and again after what failed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from filelock import Timeout

from concordex.errors import ConcordexError
from concordex.model.scalars import parse_duration
from concordex.store.notices import Notice
from concordex.work.tell.message import message_of
from concordex.work.tell.ways import send

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace
    from concordex.work.workspace.tell_settings import Place

#: How long after a failure it is tried again: twice as long each time, up to an hour.
_SOON, _LATE = timedelta(seconds=30), timedelta(hours=1)
#: So many messages that were sent are remembered.
_KEPT = 1000


@dataclass(frozen=True, kw_only=True)
class PlaceState:
    """A place where people are told things: what waits there, when it goes, when something last went, what failed."""

    name: str
    by: str
    of: tuple[str, ...]
    waiting: int
    sends_at: datetime | None
    last_sent: datetime | None
    fault: str


def deliver(workspace: BaseWorkspace) -> Iterator[tuple[str, str]]:
    """Send what may go now; each place with what came of it: nothing where it was taken, else why not.

    What is not taken stays, and is tried again later and later; nothing is given up.
    """
    try:
        with workspace.locks.of_job("to tell"):  # no job is called so
            yield from _delivered(workspace)
    except Timeout:
        return  # another process does so


def _delivered(workspace: BaseWorkspace) -> Iterator[tuple[str, str]]:
    notices = workspace.catalogue.notices
    for name, place in workspace.config.tell.items():
        waiting = notices.waiting(name)
        if not waiting or _goes_at(workspace, name, place, waiting) > workspace.now():
            continue
        ids = [one.id for one in waiting]
        try:
            send(workspace, name, message_of(waiting, workspace.root, workspace.now(), place.template))
        except ConcordexError as error:
            tries = max(one.tries for one in waiting)
            again = workspace.now() + min(_SOON * 2 ** min(tries, 10), _LATE)
            notices.failed(ids, str(error), again)
            yield name, str(error)
        else:
            notices.sent(ids)
            notices.forget(_KEPT)
            yield name, ""


def states(workspace: BaseWorkspace) -> list[PlaceState]:
    """Every place, and what waits there."""
    told = []
    for name, place in workspace.config.tell.items():
        waiting = workspace.catalogue.notices.waiting(name)
        goes = max(_goes_at(workspace, name, place, waiting), workspace.now()) if waiting else None
        told.append(PlaceState(
            name=name, by=place.by, of=tuple(place.of), waiting=len(waiting), sends_at=goes,
            last_sent=workspace.catalogue.notices.last_sent(name),
            fault=next((one.fault for one in waiting if one.fault), ""),
        ))  # fmt: skip
    return told


def try_place(workspace: BaseWorkspace, name: str) -> None:
    """Send a message that says that it is one to try; raises NotTold where it is not taken."""
    now = datetime.now(UTC)
    notice = Notice(
        id=0, place=name, kind="found", subject="A message to try whether it comes", made=now, facts={},
        body="Somebody asked for it with `concordex tell try`; nothing has happened.",
    )  # fmt: skip
    send(workspace, name, message_of([notice], workspace.root, now, workspace.config.tell[name].template))


def _goes_at(workspace: BaseWorkspace, name: str, place: Place, waiting: list[Notice]) -> datetime:
    """When what waits may go: after the failure before it, the digest before it, and the quiet hours."""
    moments = [workspace.now(), *(one.next for one in waiting if one.next is not None)]
    span, last = parse_duration(place.digest) if place.digest else None, workspace.catalogue.notices.last_sent(name)
    if span is not None:
        moments.append((last or min(one.made for one in waiting)) + span)
    goes = max(moments)
    for _ in range(8):  # one quiet time may end in another
        until = max((window.ends(goes) for window in place.quiet if window.holds(goes)), default=goes)
        if until == goes:
            break
        goes = until
    return goes
