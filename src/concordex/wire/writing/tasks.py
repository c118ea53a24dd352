"""Tasks: what a write started, followed until it has ended."""

from __future__ import annotations

import asyncio
import time
from typing import Any

from concordex.errors import BadAnswer, RequestRefused, ServerFault
from concordex.wire import dialect as d
from concordex.wire.http.answers import Answer
from concordex.wire.http.session import Session


async def follow(session: Session, name: str, answer: Answer) -> Any:
    """The task's last answer, or the write's own where it started none.

    Raises RequestRefused where the task failed, and ServerFault where it has not ended in time or is not
    known any more (the system started anew): what it did is then as uncertain as after a cut connection.
    """
    task = session.dialect.tasks[name]
    number = answer.at(task.started)
    if number is None or number == "":
        return answer.body
    begun = time.monotonic()
    while True:
        try:
            seen = await session.get(task, {"task": _whole(session, task, number)})
        except RequestRefused as refusal:  # what was begun was taken; only how it went is not told any more
            raise ServerFault(
                f"nothing is known of the task {number} any more", http=refusal.http, where=session.endpoint.name,
                why=refusal.why or refusal.what, advice="look there; the next run finds out what it did",
            ) from refusal  # fmt: skip
        state = task.state.first(seen.body)
        if state in task.done or str(state) in task.done:
            return task.made.first(seen.body) if task.made else answer.body
        if state in task.failed or str(state) in task.failed:
            reason = task.reason.first(seen.body) if task.reason else None
            raise RequestRefused(
                f"the task {number} failed", http=seen.status, body=seen.body, where=session.endpoint.name,
                why=str(reason) if reason else "",
            )  # fmt: skip
        if state is None:
            raise BadAnswer(
                f"the task {number} does not say how it stands, at {task.state}", where=session.endpoint.name
            )
        if time.monotonic() - begun > task.timeout:
            raise ServerFault(
                f"the task {number} has not ended after {task.timeout:g} s", http=seen.status,
                where=session.endpoint.name, why=f"it says {state}",
                advice="look there; the next run finds out what it did",
            )  # fmt: skip
        await asyncio.sleep(task.every)


def _whole(session: Session, task: d.Task, number: Any) -> Any:
    """A location may be relative to the system's root (RFC 9110, section 10.2.2)."""
    is_location = task.path == "{task}" and isinstance(number, str)
    return session.link(number, "/") if is_location and "://" not in str(number) else number
