"""Whether a file is all there: another program may still be writing it."""

from __future__ import annotations

import sys
from pathlib import Path


def is_being_written(path: Path) -> bool:
    """Whether another program has the file open to write to it, as far as this machine can tell.

    Linux grants a lease for reading (fcntl(2), F_SETLEASE) on a file that nobody has open for writing, to its owner
    and to root.  Elsewhere, of others' files, and where a network lies between, nobody can say, and it is not.
    """
    if sys.platform != "linux":
        return False
    import fcntl
    import signal

    try:
        with path.open("rb") as file:
            # of whoever begins to write just now we are told by a signal; the usual one would end us
            fcntl.fcntl(file, fcntl.F_SETSIG, signal.SIGURG)
            try:
                fcntl.fcntl(file, fcntl.F_SETLEASE, fcntl.F_RDLCK)
            except BlockingIOError:
                return True
            fcntl.fcntl(file, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except OSError:
        return False
    return False
