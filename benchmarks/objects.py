"""How fast configuration objects are saved, compared and ordered.

    python benchmarks/objects.py [save | diff | order] …

save   5,000 objects into files, and again with nothing to write
diff   5,000 objects against 5,000, of which one in ten differs
order  20,000 objects with 60,000 references
"""

from __future__ import annotations

import platform
import random
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from concordex.change.depend import in_order
from concordex.change.differ import differ
from concordex.change.objects import Kind, Object
from concordex.work.objects.files import save as write

KINDS = {
    "nets": Kind(table="nets", sets=["tags"]),
    "rules": Kind(table="rules", references={"from": "nets", "to": "nets", "after": "rules"}, place="place"),
}


def policies(count: int, odd: int = 0) -> list[Object]:
    """Objects with some depth, of which every ``odd``-th is otherwise."""
    return [
        Object(kind="nets", name=f"policy {at}", body={
            "value": f"10.{at // 250}.{at % 250}.0/24", "note": "as agreed", "tags": ["quay", "ship", f"t{at % 9}"],
            "lock": {"afterMinutes": 5 if odd and at % odd == 0 else 10, "leastDigits": 6},
            "steps": [{"after": "1d", "do": "tell"}, {"after": "7d", "do": "block"}],
        })
        for at in range(count)
    ]  # fmt: skip


def seconds(what: Callable[[], Any]) -> float:
    """The median of three."""
    taken = []
    for _ in range(3):
        begun = time.perf_counter()
        what()
        taken.append(time.perf_counter() - begun)
    return statistics.median(taken)


def save() -> None:
    """Into a new folder, and into one that holds the same."""
    objects = policies(5000)
    first, bare = [], []
    for _ in range(3):
        with tempfile.TemporaryDirectory() as folder:
            begun = time.perf_counter()
            write(objects, Path(folder, "new"), KINDS, ["nets"])
            first.append(time.perf_counter() - begun)
        with tempfile.TemporaryDirectory() as folder:
            begun = time.perf_counter()
            for at in range(5000):
                making = Path(folder, f"{at}.new")
                making.write_bytes(b"." * 300)
                making.replace(Path(folder, f"{at}.yaml"))
            bare.append(time.perf_counter() - begun)
    print(
        f"5,000 objects saved: {statistics.median(first):.2f} s (wanted 1.5 s),"
        f" of which the file system takes {statistics.median(bare):.2f} s to make as many files and rename them",
        flush=True,
    )
    with tempfile.TemporaryDirectory() as folder:
        write(objects, Path(folder), KINDS, ["nets"])
        print(
            f"again, nothing to write: {seconds(lambda: write(objects, Path(folder), KINDS, ['nets'])):.2f} s"
            " (wanted 0.5 s)",
            flush=True,
        )


def diff() -> None:
    """One side against the other, in mixed order."""
    was, now = policies(5000), policies(5000, odd=10)
    random.Random(1).shuffle(now)
    found = differ(was, now, KINDS)
    print(f"5,000 against 5,000: {seconds(lambda: differ(was, now, KINDS)):.2f} s, {len(found):,} differ (wanted 2 s)")


def order() -> None:
    """Nets, and rules that refer to two nets and to one rule before them; in mixed order."""
    rng = random.Random(1)
    made = [Object(kind="nets", name=f"n{at}", body={}) for at in range(4000)]
    made += [
        Object(kind="rules", name=f"r{at}", body={
            "from": f"n{rng.randrange(4000)}", "to": [f"n{rng.randrange(4000)}", f"n{rng.randrange(4000)}"],
            "after": f"r{rng.randrange(at)}" if at else None,
        })
        for at in range(16000)
    ]  # fmt: skip
    rng.shuffle(made)
    count = sum(len(one.body) and 4 for one in made)
    taken = seconds(lambda: in_order(made, KINDS))
    print(f"{len(made):,} objects with {count:,} references in order: {taken:.2f} s (wanted 2 s)")


def main() -> None:
    """Run what is named, or all."""
    print(f"{datetime.now(UTC):%Y-%m-%d}, Python {platform.python_version()}")
    for name in sys.argv[1:] or ("save", "diff", "order"):
        {"save": save, "diff": diff, "order": order}[name]()


if __name__ == "__main__":
    main()
