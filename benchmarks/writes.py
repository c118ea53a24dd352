"""How fast changes are prepared and run.

    python benchmarks/writes.py [push | plan | quick] …

push  20,000 new devices into Stowage, in lists of 100 at 10 ms latency, beside the bare HTTP client that posts the
      same bodies, as many at once: reading all back, which is the fair yardstick, or nothing
quick push, once
plan  a sync of 200,000 entries against 200,000 records, and a second one with nothing to do
"""

from __future__ import annotations

import asyncio
import json
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import orjson
import polars as pl

PROGRAM = [sys.executable, "-m", "concordex"]
DEVICES, LIST, LATENCY, AT_ONCE = 20_000, 100, 0.010, 4
ENTRIES = 200_000


def serve() -> None:
    """Stowage with one place and one product, until its input ends."""
    from concordex.standins.server import Harbour

    with Harbour.of(40, moment=datetime.now(UTC)) as harbour:
        stowage = harbour.stowage
        stowage.faults.latency = LATENCY
        print(json.dumps({"url": harbour.urls["stowage"], "key": stowage.key}), flush=True)
        sys.stdin.read()


@contextmanager
def stowage() -> Iterator[dict[str, str]]:
    """A fresh Stowage in a process of its own."""
    with subprocess.Popen(
        [sys.executable, __file__, "--serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdin
        assert process.stdout
        yield json.loads(process.stdout.readline())
        process.stdin.close()


def rows() -> list[dict[str, str]]:
    """New devices, as a person's file has them."""
    return [
        {"name": f"new-{at:05}", "serial": f"NW{at:06}", "site": "north-mole", "maker": "Brackwater",
         "model": "BS-2448", "kind": "switch"}
        for at in range(DEVICES)
    ]  # fmt: skip


def workspace(folder: Path, where: dict[str, str]) -> None:
    """A workspace for that Stowage, pulled."""
    (folder / "concordex.yaml").write_text(
        f"format: 1\nguards: {{creations: 1000000}}\nsystems:\n  stowage:\n    dialect: stowage\n"
        f"    url: {where['url']}\n    credentials: {{key: 'env:STOWAGE_KEY'}}\n"
    )
    os.environ["STOWAGE_KEY"] = where["key"]
    subprocess.run([*PROGRAM, "pull"], cwd=folder, check=True, capture_output=True)


def push(rounds: int = 3) -> None:
    """The run of a change beside the bare client; and the whole push with its preparation."""
    taken: dict[str, list[float]] = {"bare": [], "back": [], "run": [], "push": []}
    for _ in range(rounds):
        for what, found in taken.items():
            with stowage() as where, tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                workspace(folder, where)
                pl.DataFrame(rows()).write_csv(folder / "rows.csv")
                command = [*PROGRAM, "push", "rows.csv", "--to", "stowage", "--draft" if what == "run" else "--yes"]
                if what == "run":
                    subprocess.run(command, cwd=folder, check=True, capture_output=True)
                    command = [*PROGRAM, "change", "run", "1", "--yes"]
                elif what in ("bare", "back"):
                    command = [sys.executable, __file__, f"--{what}", where["url"], where["key"]]
                begun = time.perf_counter()
                subprocess.run(command, cwd=folder, check=True, capture_output=True)
                found.append(time.perf_counter() - begun)
    median = {what: statistics.median(found) for what, found in taken.items()}
    for what, seconds in median.items():
        told = f"{seconds / median['bare']:.2f} times bare, {seconds / median['back']:.2f} times with reading back"
        print(f"{what:6} {seconds:6.2f} s, {told}")


def bare(url: str, key: str, *, back: bool) -> None:
    """Post the same bodies, as many at once; nothing is looked at before, and nothing but the list after."""
    import aiohttp

    items = [
        {"title": row["name"], "serialNumber": row["serial"], "category": row["kind"], "placeId": 16, "productId": 2}
        for row in rows()
    ]

    async def all_of_it() -> None:
        gate = asyncio.Semaphore(AT_ONCE)
        async with aiohttp.ClientSession(headers={"Stowage-Key": key}) as session:

            async def post(part: list[dict[str, object]]) -> None:
                body = orjson.dumps({"items": part})
                async with gate, session.post(f"{url}/v2/gear", data=body) as answer:
                    assert answer.status == 201, await answer.text()
                    orjson.loads(await answer.read())

            await asyncio.gather(*(post(items[at : at + LIST]) for at in range(0, DEVICES, LIST)))
            following = f"{url}/v2/gear?take=500" if back else None
            while following:
                async with session.get(following) as answer:
                    following = orjson.loads(await answer.read())["more"]

    asyncio.run(all_of_it())


def plan() -> None:
    """A sync of many entries, prepared in a process of its own; of one twentieth each is missing or otherwise."""
    for what, share in (("first", 20), ("nothing to do", 0)):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            _filled(folder, share)
            seconds, peak = [], 0.0
            for _ in range(3):
                code = (
                    "import time, resource; from concordex import Workspace;"
                    "from concordex.work.change.sync import prepare_sync; w = Workspace('.'); t = time.perf_counter();"
                    "made = prepare_sync(w, 'stowage'); print(time.perf_counter() - t,"
                    "resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, len(made.change.steps))"
                )
                done = subprocess.run(
                    [sys.executable, "-c", code], cwd=folder, capture_output=True, text=True, check=True
                )
                one, peak, steps = map(float, done.stdout.split())
                seconds.append(one)
            print(f"{what:14} {statistics.median(seconds):6.2f} s, {peak:,.0f} MB, {steps:,.0f} steps")


def _filled(folder: Path, share: int) -> None:
    """A workspace in which a manager and the inventory hold as many devices each, reconciled."""
    from concordex import Workspace
    from concordex.standins.server import Harbour
    from concordex.wire.http.session import Traffic
    from concordex.wire.reading.completeness import Proof
    from concordex.wire.reading.table_read import TableRead
    from concordex.work.concordance.reconcile import make
    from concordex.work.pull.pull import keep

    (folder / "concordex.yaml").write_text(
        "format: 1\nsystems:\n"
        "  fairlead: {dialect: fairlead, url: 'http://127.0.0.1:1', credentials: {user: a, password: 'env:NONE'}}\n"
        "  stowage: {dialect: stowage, url: 'http://127.0.0.1:1', credentials: {key: 'env:NONE'}}\n"
    )
    here = Workspace(folder)
    with Harbour.of(40, moment=datetime.now(UTC)) as harbour, tempfile.TemporaryDirectory() as name:
        workspace(Path(name), {"url": harbour.urls["stowage"], "key": harbour.stowage.key})
        other = Workspace(name)
        frames = {s.table: pl.read_parquet(other.store / str(s.file)) for s in other.memory.newest()}
    at = pl.int_range(ENTRIES, eager=True).cast(pl.String).str.zfill(6)
    managed = pl.DataFrame(
        {"record_id": at, "name": "dev-" + at, "serial": "SN" + at, "maker": "Brackwater", "model": "BS-2448",
         "kind": "switch", "site": "north-mole", "os_version": "7.2"}
    )  # fmt: skip
    typed = managed.with_columns(("g" + at).alias("record_id"), ("fairlead/" + at).alias("origin"))
    if share:
        typed = typed.with_columns(
            pl.when(pl.int_range(ENTRIES) % share == 1).then(pl.lit("7.1")).otherwise("os_version").alias("os_version")
        ).filter(pl.int_range(ENTRIES) % share != 0)
    frames["devices"] = pl.concat([frames["devices"].clear(), typed], how="diagonal_relaxed")
    number = here.catalogue.begin_pull(os.getpid())
    begun = time.monotonic()
    parts = [("fairlead", "devices", managed), *(("stowage", table, frame) for table, frame in frames.items())]
    for system, table, frame in parts:
        height = frame.height
        look = TableRead(held=frame, announced=height, received=height, distinct=height, proof=Proof.TOTAL)
        keep(here, number, system, table, look, begun, Traffic())
    here.catalogue.end_pull(number, "whole")
    make(here)


def main() -> None:
    """Run what is named, or all."""
    if sys.argv[1:2] == ["--serve"]:
        serve()
    elif sys.argv[1:2] in (["--bare"], ["--back"]):
        bare(*sys.argv[2:4], back=sys.argv[1] == "--back")
    else:
        print(f"{datetime.now(UTC):%Y-%m-%d}, Python {platform.python_version()}, polars {pl.__version__}")
        for name in sys.argv[1:] or ("push", "plan"):
            print(f"\n{name}")
            parts: dict[str, Callable[[], None]] = {"push": push, "plan": plan, "quick": partial(push, 1)}
            parts[name]()


if __name__ == "__main__":
    main()
