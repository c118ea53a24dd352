"""The figures that Concordex promises, measured on this machine.

    python benchmarks/run.py [start | pull | million | twelve | details | systems | show] …

Medians of several runs; where two things are compared, they take turns, and the ratio is of the
medians.  ``docs/benchmarks.md`` says what is wanted.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "concordex"]
MEMBERS = ("id", "label", "serial", "mac", "address", "place", "family", "release", "heard")
RECORDS, SIZE = 99_900, 500  # no round thousand: a list that ends at one is not believed

DIALECT = """\
format: 1
name: pages
title: The page server of the benchmarks
limits: {concurrency: FLIGHT}
tables:
  devices:
    read:
      path: /items
      records: items
      total: count
      pages: {by: offset, offset: start, limit: size, first: 0, size: 500}
    fields:
      record_id: id
      name: label
      serial: serial
      macs: mac
      ips: address
      site: place
      kind: family
      os_version: release
      last_seen: {from: heard, as: epoch_ms}
"""


def timed(function: Callable[[], object]) -> float:
    """Seconds that one call takes."""
    begun = time.perf_counter()
    function()
    return time.perf_counter() - begun


def in_turn(runs: int, *functions: Callable[[], object]) -> list[float]:
    """The median seconds of each function, after one round that does not count."""
    rounds = [[timed(function) for function in functions] for _ in range(runs + 1)]
    return [statistics.median(column) for column in zip(*rounds[1:], strict=True)]


def process(*command: str) -> Callable[[], object]:
    """A whole process, its output thrown away."""
    return lambda: subprocess.run(command, stdout=subprocess.DEVNULL, check=True)


@contextmanager
def page_server(latency: int, records: int = RECORDS, size: int = SIZE) -> Iterator[str]:
    """The page server in a process of its own."""
    command = [sys.executable, str(HERE / "pages.py"), "--records", str(records), "--size", str(size)]
    with subprocess.Popen([*command, "--latency", str(latency)], stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout
        try:
            yield f"http://127.0.0.1:{server.stdout.readline().strip()}"
        finally:
            server.terminate()


def workspace(folder: Path, urls: Sequence[str], flight: int = 4, details: bool = False) -> None:
    """A workspace with page servers as its systems."""
    (folder / "dialects").mkdir(parents=True)
    text = DIALECT.replace("FLIGHT", str(flight))
    if details:
        text = text.replace("    fields:", '      details: {path: "/items/{id}"}\n    fields:')
    (folder / "dialects" / "pages.yaml").write_text(text)
    systems = {f"pages{at}": {"dialect": "pages", "url": url} for at, url in enumerate(urls)}
    (folder / "concordex.yaml").write_text(f"format: 1\nsystems: {json.dumps(systems)}\n")


def start() -> None:
    """(a) How long it takes to say something."""
    bare, version, helped = in_turn(
        11, process(sys.executable, "-c", "pass"), process(*PROGRAM, "--version"), process(*PROGRAM, "--help")
    )
    print(f"python -c pass                  {bare * 1000:7.0f} ms")
    print(f"concordex --version             {version * 1000:7.0f} ms   {version / bare:.1f} times (wanted: 8)")
    print(f"concordex --help                {helped * 1000:7.0f} ms   {helped / bare:.1f} times (wanted: 5)")


async def _bare(paths: Sequence[str], flight: int) -> None:
    """The same requests by the bare client, their answers thrown away."""
    import aiohttp

    gate = asyncio.Semaphore(flight)
    async with aiohttp.ClientSession() as session:

        async def one(path: str) -> None:
            async with gate, session.get(path) as answer:
                await answer.read()

        await asyncio.gather(*map(one, paths))


async def _scripted(paths: Sequence[str], flight: int) -> dict[str, list[object]]:
    """What one would write by hand: fetch, parse, and keep the members that the dialect maps; nothing is proved."""
    import aiohttp
    import orjson

    gate, kept = asyncio.Semaphore(flight), {name: list[object]() for name in MEMBERS}
    async with aiohttp.ClientSession() as session:

        async def one(path: str) -> None:
            async with gate, session.get(path) as answer:
                content = await answer.read()
            for record in orjson.loads(content)["items"]:
                for name, values in kept.items():
                    values.append(record.get(name))

        await asyncio.gather(*map(one, paths))
    return kept


def _by_script(paths: Sequence[str], flight: int) -> None:
    asyncio.run(_scripted(paths, flight))


def _fetched(paths: Sequence[str], flight: int) -> None:
    asyncio.run(_bare(paths, flight))


def _pages_of(url: str, records: int) -> list[str]:
    return [f"{url}/items?start={at}&size={SIZE}" for at in range(0, records, SIZE)]


def _whole(folder: Path) -> None:
    from concordex import Workspace
    from concordex.work.pull.pull import pull as fetch

    assert fetch(Workspace(folder)).outcome == "whole"


def pull() -> None:
    """(b) A pull against the same pages fetched by the bare client and thrown away."""
    for flight in (4, 8):
        with page_server(20) as url, tempfile.TemporaryDirectory() as folder:
            root, paths = Path(folder) / "w", _pages_of(url, RECORDS)
            workspace(root, [url], flight)
            plain, script, full = in_turn(
                5, partial(_fetched, paths, flight), partial(_by_script, paths, flight), partial(_whole, root)
            )
            peak = _peak([*PROGRAM, "-w", str(root), "pull"])
        wanted = {4: 1.15, 8: 1.4}[flight]
        print(f"100,000 records, {flight} at once, bare  {plain:7.2f} s")
        print(f"   parsed and kept by a script  {script:7.2f} s    {script / plain:.2f} times")
        print(f"   pulled and kept              {full:7.2f} s    {full / plain:.2f} times (wanted: {wanted})")
        print(f"   peak memory                  {peak:7.0f} MB   (wanted: 400)")


def million() -> None:
    """(c) Whether a record costs the same when there are ten times as many."""
    figures = []
    for records in (99_900, 999_900):  # no round thousands, which are not believed
        with page_server(20, records) as url, tempfile.TemporaryDirectory() as folder:
            root = Path(folder) / "w"
            workspace(root, [url], 8)
            begun = time.perf_counter()
            peak = _peak([*PROGRAM, "-w", str(root), "pull"])
            took = time.perf_counter() - begun
        figures.append(took / records)
        each = f"{took / records * 1e6:.1f} us each"
        print(f"{records:9,} records, whole process {took:7.2f} s   {each}, peak {peak:.0f} MB")
    print(f"   a record of the million        {figures[1] / figures[0]:7.2f} times one of the 100,000")


def twelve() -> None:
    """(d) Twelve systems at once, one of them slow, against that one alone."""
    with contextlib.ExitStack() as stack:
        slow = stack.enter_context(page_server(200, 4_990))
        urls = [stack.enter_context(page_server(20, 1_990)) for _ in range(11)]
        one, all_of_them, summed = (Path(stack.enter_context(tempfile.TemporaryDirectory())) / "w" for _ in range(3))
        workspace(one, [slow])
        workspace(all_of_them, [slow, *urls])
        workspace(summed, urls)
        alone, together = in_turn(5, partial(_whole, one), partial(_whole, all_of_them))
        (each,) = in_turn(3, partial(_one_by_one, summed))
    print(f"the slowest of twelve alone     {alone:7.2f} s")
    print(f"all twelve at once              {together:7.2f} s    {together / alone:.2f} times the slowest")
    print(f"one after the other             {alone + each:7.2f} s")


def _one_by_one(folder: Path) -> None:
    from concordex import Workspace
    from concordex.work.pull.pull import pull as fetch

    for name in Workspace(folder).systems():
        assert fetch(Workspace(folder), [name]).outcome == "whole"


def systems() -> None:
    """(g) 200 systems of 1,000 records, 50 ms for each answer, in one process."""
    with page_server(50, 990) as url, tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "w"
        workspace(root, [url] * 200)
        paths = _pages_of(url, 990) * 200
        plain, full = in_turn(3, partial(_fetched, paths, 400), partial(_whole, root))
    print(f"200 systems of 1,000, bare      {plain:7.2f} s")
    print(f"   pulled and kept              {full:7.2f} s    {full / plain:.2f} times (wanted: 1.3)")


def details() -> None:
    """(e) 5,000 records, each completed by a call of its own."""
    for flight in (8, 16):
        with page_server(20, 4_990) as url, tempfile.TemporaryDirectory() as folder:
            root = Path(folder) / "w"
            workspace(root, [url], flight, details=True)
            paths = [*_pages_of(url, 4_990), *(f"{url}/items/n{at:07d}" for at in range(4_990))]
            plain, full = in_turn(1, partial(_fetched, paths, flight), partial(_whole, root))
        print(f"5,000 details, {flight:2} at once, bare  {plain:7.2f} s")
        print(f"   pulled and kept              {full:7.2f} s    {full / plain:.2f} times (wanted: 1.1)")


#: The question that `show` is asked, for an embedded analytical database.
IN_SQL = """
import duckdb, sys
duckdb.sql(
    "COPY (SELECT * FROM read_parquet('" + sys.argv[1] + "') WHERE site = 'cobble-quay' AND kind = 'switch'"
    " AND starts_with(lower(name), 'sw-00012')) TO '/dev/stdout' (FORMAT json)"
)
"""


def show() -> None:
    """(f) A filter over a snapshot of a million records, as a whole process, beside an embedded database."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "w"
        workspace(root, ["http://127.0.0.1:9"])
        _million(root)
        where = 'site = "cobble-quay" and kind = switch and name like "sw-00012*"'
        command = [*PROGRAM, "-w", str(root), "show", "devices", "--where", where, "--format", "ndjson"]
        asked = [sys.executable, "-c", IN_SQL, str(root / ".concordex/million.parquet")]
        lines = [
            subprocess.run(words, capture_output=True, check=True).stdout.count(b"\n") for words in (command, asked)
        ]
        assert lines[0] == lines[1], lines
        database, took = in_turn(7, process(*asked), process(*command))
        print(f"1,000,000 records, {lines[0]} found by a database   {database:.2f} s, {_peak(asked):.0f} MB")
        print(f"   show --where                 {took:7.2f} s    {took / database:.2f} times (wanted: 1.5)")
        print(f"   peak memory                  {_peak(command):7.0f} MB   (wanted: 100)")


def _peak(command: list[str]) -> float:
    """Peak resident megabytes of one run, as its parent is told."""
    code = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, check=True);"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    done = subprocess.run([sys.executable, "-c", code, *command], capture_output=True, text=True, check=True)
    return int(done.stdout) / 1024


def _million(root: Path) -> None:
    import polars as pl

    from concordex.store import snapshots
    from concordex.store.catalogue import Catalogue, Snapshot
    from concordex.store.sqlite import SqliteDatabase
    from concordex.wire.dialect.load import from_file
    from concordex.wire.reading.mapping import Mapper
    from concordex.wire.reading.records import DecodedRecords
    from concordex.work.pull.sift import in_order

    sys.path.insert(0, str(HERE))
    from pages import record

    mapper = Mapper(from_file(root / "dialects" / "pages.yaml").tables["devices"])
    chunks = []
    for at in range(0, 1_000_000, 20_000):
        columns = mapper.empty()
        records = DecodedRecords([record(n, 1000) for n in range(at, at + 20_000)])
        mapper.add(columns, records, records.texts())
        chunks.append(mapper.frame([mapper.taken(columns)]))
    store = root / ".concordex"
    snapshots.write(in_order(pl.concat(chunks)), store / "million.parquet")
    catalogue = Catalogue(partial(SqliteDatabase, store / "catalogue.sqlite"), write=True)
    number = catalogue.begin_pull(os.getpid())
    catalogue.add_snapshot(
        Snapshot(
            pull=number, system="pages0", table="devices", taken=datetime.now(UTC), outcome="whole",
            file="million.parquet", received=1_000_000, distinct=1_000_000,
        )
    )  # fmt: skip
    catalogue.end_pull(number, "whole")


PARTS = {"start": start, "pull": pull, "million": million, "twelve": twelve, "details": details, "systems": systems,
         "show": show}  # fmt: skip

if __name__ == "__main__":
    print(f"{datetime.now(UTC):%Y-%m-%d}, Python {platform.python_version()}, {os.cpu_count()} cores\n")
    for name in sys.argv[1:] or PARTS:
        PARTS[name]()
    print(f"\npeak memory of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
