"""What was said before the command, for as long as it runs."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path


@dataclass
class Context:
    """The workspace that was named, whether requests and traces are shown, and how standard error is written."""

    workspace: Path | None = None
    debug: bool = False
    log: str = "text"


_RUNNING: ContextVar[Context] = ContextVar("running")


@contextmanager
def entered() -> Iterator[Context]:
    """A context of its own for one command."""
    token = _RUNNING.set(Context())
    try:
        yield current()
    finally:
        _RUNNING.reset(token)


def current() -> Context:
    """That of the command that runs; an empty one while the shell asks for completions."""
    return _RUNNING.get(Context())
