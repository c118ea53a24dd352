"""One command of ours in a process of its own, which can be asked to end and leaves what it said in a file."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from uuid import uuid4

from concordex.spans import passed_on
from concordex.work.pull.in_progress import ORIGIN

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: How exit statuses are called: they are a contract (docs/jobs.md).
ENDINGS = {0: "done", 1: "failed", 2: "failed", 3: "found", 4: "partly", 5: "stopped"}
#: The worst first: how a run is called by how its steps ended.
WORST = ("failed", "stopped", "partly", "left out", "found")
#: Seconds between two looks at whether it has ended.
_LOOK = 0.05
#: Seconds for a line that is asked to end to finish what it has begun.
_PATIENCE = 600.0
#: So much of what it said are its last words.
_LAST_WORDS = 400


@dataclass(frozen=True, kw_only=True)
class Ended:
    """How a command ended: its exit status and what that means, its last words, and the pulls that it made."""

    status: int
    outcome: str
    last_words: str
    pulls: tuple[int, ...]
    seconds: float


def run_line(workspace: BaseWorkspace, words: Sequence[str], log: Path, is_to_stop: Callable[[], bool]) -> Ended:
    """Run what would be typed after `concordex` to its end; nothing is asked of a person."""
    begun, origin = time.monotonic(), uuid4().hex
    log.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    command = [sys.executable, "-m", "concordex", "-w", str(workspace.root.resolve()), *words]
    log.touch(mode=0o600)
    own = {"CONCORDEX_PARENT": str(os.getpid()), ORIGIN: origin, "CONCORDEX_WHERE": " ".join(sorted(workspace.places))}
    with log.open("wb") as out:
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT, start_new_session=True,
            env={**os.environ, **own, **passed_on()},
        )  # fmt: skip
    told: float | None = None
    while process.poll() is None:
        now = time.monotonic()
        if told is None and is_to_stop():
            process.terminate()
            told = now
        elif told is not None and now - told > _PATIENCE:
            process.kill()
        time.sleep(_LOOK)
    ended_early = process.returncode == -signal.SIGTERM and is_to_stop()  # told to end before it could hear of it
    return Ended(
        status=process.returncode, outcome="stopped" if ended_early else ENDINGS.get(process.returncode, "failed"),
        last_words=last_words(log), pulls=tuple(workspace.catalogue.pulls_of(origin)),
        seconds=round(time.monotonic() - begun, 2),
    )  # fmt: skip


def worst(outcomes: Sequence[str]) -> str:
    """The worst of some outcomes; done where there is none."""
    return next((word for word in WORST if word in outcomes), "done")


def last_words(log: Path) -> str:
    """The last line that a command said."""
    with log.open("rb") as file:
        file.seek(max(0, log.stat().st_size - 4 * _LAST_WORDS))
        text = file.read().decode("utf-8", "replace")
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[-1][-_LAST_WORDS:] if lines else ""
