"""Whether a process that once took something in hand still lives."""

from __future__ import annotations

import os


def is_alive(process: int | None) -> bool:
    """Whether another process of that number runs on this machine."""
    if process is None or process == os.getpid():
        return False
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
