"""What guards the speed where it cannot be timed: counts that are the same on every machine.

    python benchmarks/guard.py

A pull of 80,000 and one of 240,000 records of 1 KB, and a change of 1,000 new devices, each in a process of its own:
requests, bytes that were decoded whole, memory for each further record, looks at tables, transactions.  Ends with 1
where one is more than it may be; CI runs it.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from contextlib import contextmanager
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))

FEW, MANY, SIZE = 79_900, 239_900, 500
CREATED = 1_000


@contextmanager
def _counting(owner: Any, name: str, count: Callable[..., int], into: Counter[str], what: str) -> Any:
    """While a function of the program is called: what ``count`` makes of its arguments, added up."""
    real = getattr(owner, name)

    def counted(*given: Any, **more: Any) -> Any:
        into[what] += count(*given)
        return real(*given, **more)

    setattr(owner, name, counted)
    try:
        yield
    finally:
        setattr(owner, name, real)


def pulled(folder: str) -> dict[str, float]:
    """What a pull of that workspace takes."""
    from concordex import Workspace
    from concordex.wire.http import answers

    counts: Counter[str] = Counter()
    with _counting(answers, "decode", lambda content, *_: len(content), counts, "decoded whole"):
        done = Workspace(folder).pull()
    (snapshot,) = done.snapshots
    assert snapshot.outcome == "whole", snapshot
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    return {"requests": snapshot.requests, "received": snapshot.bytes, "peak": peak, **counts}


def written(folder: str) -> dict[str, float]:
    """What a run of the first change of that workspace takes."""
    from concordex import Workspace
    from concordex.store.sqlite import SqliteDatabase
    from concordex.wire.http.transport import Transport
    from concordex.work.targets.records import RecordTarget

    counts: Counter[str] = Counter()
    with (
        _counting(RecordTarget, "records", lambda *_: 1, counts, "looks at a table"),
        _counting(SqliteDatabase, "atomic", lambda *_: 1, counts, "transactions"),
        _counting(Transport, "send", lambda *_: 1, counts, "requests"),
    ):
        done = Workspace(folder).run(1)
    assert done.state == "done", done.state
    return dict(counts)


def _alone(what: str, folder: Path) -> dict[str, float]:
    """One of these in a process of its own."""
    environment = {**os.environ, "POLARS_MAX_THREADS": "2"}
    command = [sys.executable, __file__, what, str(folder)]
    done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
    found: dict[str, float] = json.loads(done.stdout)
    return found


def _pull_of(records: int) -> dict[str, float]:
    from run import page_server, workspace

    with page_server(0, records) as url, tempfile.TemporaryDirectory() as name:
        root = Path(name) / "w"
        workspace(root, [url], 8)
        return _alone("--pull", root)


def _change() -> dict[str, float]:
    import polars as pl
    from writes import PROGRAM, rows, stowage, workspace

    with stowage() as where, tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        workspace(folder, where)
        pl.DataFrame(rows()[:CREATED]).write_csv(folder / "rows.csv")
        command = [*PROGRAM, "push", "rows.csv", "--to", "stowage", "--draft"]
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
        return _alone("--write", folder)


def main() -> int:
    """Take the counts, and tell which is too large."""
    few, many, change = _pull_of(FEW), _pull_of(MANY), _change()
    pages = -(-MANY // SIZE)
    told = [
        ("pull: requests for each page", many["requests"] / pages, 1.01),
        ("pull: share of the bytes that is decoded whole", many["decoded whole"] / many["received"], 2 / pages),
        ("pull: bytes of memory for each further record of 1 KB", (many["peak"] - few["peak"]) / (MANY - FEW), 500),
        ("change: requests for each 100 records", change["requests"] / (CREATED / 100), 4.0),
        ("change: transactions for each 100 records", change["transactions"] / (CREATED / 100), 3.0),
        ("change: looks at a table, however many records", change["looks at a table"], 10),
    ]
    for what, is_now, most in told:
        print(f"{what:58} {is_now:10.3f}   at most {most:.3f}{'   TOO MUCH' if is_now > most else ''}")
    return int(any(is_now > most for _, is_now, most in told))


if __name__ == "__main__":
    if sys.argv[1:2] in (["--pull"], ["--write"]):
        print(json.dumps({"--pull": pulled, "--write": written}[sys.argv[1]](sys.argv[2])))
    else:
        sys.exit(main())
