"""How fast a fleet is seen: a threshold over a day of ten million readings, findings on 50,000 links, a report.

    python benchmarks/fleet.py [--readings 10000000] [--links 50000] [--devices 20000]

Each command is a process of its own, three times; the median of its seconds, and the most memory that any took.  Beside
them stands a fixed loop, so that machines, and moments of one, can be compared.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl

from concordex import Workspace
from concordex.store.catalogue import Snapshot
from concordex.store.snapshots import digest_of
from concordex.work.fleet.faults import faults

_DIALECT = """\
format: 1
name: sheets
title: Files of a fleet
role: manager
tables:
  devices:
    read: {file: devices.parquet}
    fields: {record_id: id, name: name, serial: serial, kind: kind, site: site}
  readings:
    read: {file: readings.parquet}
    fields: {record_id: id, parent: device, taken_at: {from: at, type: time}, level: {from: level, type: number}}
    health: {at: taken_at, metrics: {level: {called: battery.level, unit: "%"}}}
  links:
    read: {file: links.parquet}
    fields:
      record_id: id
      near: {from: near, of: devices, type: text}
      near_port: {from: near_port, type: text}
      far: {from: far, of: devices, type: text}
      far_port: {from: far_port, type: text}
"""
_CONFIG = """\
format: 1
systems: {sheets: {dialect: sheets, folder: .}}
health: {thresholds: [{metric: battery.level, over: 1d, error: "< 1"}]}
"""


def main() -> None:
    """Lay out a fleet, and time what is asked of it."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    for name, usual in (("readings", 10_000_000), ("links", 50_000), ("devices", 20_000)):
        asked.add_argument(f"--{name}", type=int, default=usual)
    given = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        _apart(_lay, root, given.readings, given.links, given.devices)  # else its memory would count as theirs
        print(f"a loop of 300,000 additions: {_loop():.3f} s")
        _timed(f"health, the last day of {given.readings:,} readings", root, "health", "--count")
        _timed(f"a way over {given.links:,} links", root, "links", "--path", "dev-1", "dev-2")
        seconds, found = _apart(_faults, root)
        print(f"findings on {given.links:,} links: {seconds:.2f} s, {found:,} findings")
        _timed(f"a report on {given.devices:,} devices", root, "report", "-o", "fleet.html")
        print(f"  of {(root / 'fleet.html').stat().st_size / 1e6:.2f} MB")


def _apart(what: Callable[..., Any], *given: object) -> Any:
    """What is found in a process of its own."""
    with ProcessPoolExecutor(1, get_context("spawn")) as pool:
        return pool.submit(what, *given).result()


def _faults(root: Path) -> tuple[float, int]:
    members = pl.DataFrame(schema=dict.fromkeys(("system", "record_id", "entry"), pl.String))
    workspace, begun = Workspace(root), time.perf_counter()
    found = faults(workspace, members).height
    return time.perf_counter() - begun, found


def _lay(root: Path, readings: int, links: int, devices: int) -> None:
    """A workspace whose readings and links are there as if they had been pulled."""
    rng, now = np.random.default_rng(1), datetime.now(UTC).timestamp()
    (root / "dialects").mkdir()
    (root / "dialects/sheets.yaml").write_text(_DIALECT)
    (root / "concordex.yaml").write_text(_CONFIG)
    ids = pl.Series([str(at) for at in range(devices)])
    pl.DataFrame({
        "id": ids, "name": "dev-" + ids, "serial": "SN00" + ids, "kind": rng.choice(["switch", "server"], devices),
        "site": [f"site-{at // 800}" for at in range(devices)],
    }).write_parquet(root / "devices.parquet")  # fmt: skip
    for words in (("pull", "--table", "devices"), ("reconcile",)):
        subprocess.run([sys.executable, "-m", "concordex", *words], cwd=root, capture_output=True, check=False)
    workspace = Workspace(root)
    moments = (now - 30 * 86_400 + np.sort(rng.random(readings)) * 30 * 86_400) * 1e6
    _put(workspace, "readings", pl.DataFrame({
        "record_id": pl.int_range(readings, eager=True).cast(pl.String),
        "parent": ids.gather(rng.integers(0, devices, readings)),
        "taken_at": pl.Series(moments.astype(np.int64)).cast(pl.Datetime("us", "UTC")),
        "level": rng.integers(0, 101, readings).astype(float),
    }), {})  # fmt: skip
    ends = [ids.gather(rng.integers(0, devices, links)) for _ in range(2)]
    number = pl.int_range(links, eager=True).cast(pl.String)
    _put(workspace, "links", pl.DataFrame({
        "record_id": number, "near": ends[0], "near_port": "p" + number, "far": ends[1], "far_port": "q" + number,
    }), {"near": "devices", "far": "devices"})  # fmt: skip


def _put(workspace: Workspace, table: str, frame: pl.DataFrame, refers: dict[str, str]) -> None:
    """A snapshot of a table, as a pull would have left it."""
    name = f"snapshots/sheets/{table}/000009.parquet"
    path = workspace.frames.root / name
    path.parent.mkdir(parents=True, exist_ok=True)
    frame.write_parquet(path, compression="zstd", row_group_size=32_768)
    workspace.catalogue.note_file(name, digest_of(path))
    workspace.catalogue.add_snapshot(Snapshot(
        pull=1, system="sheets", table=table, taken=datetime.now(UTC), outcome="whole", file=name,
        received=frame.height, distinct=frame.height, refers=refers,
    ))  # fmt: skip


def _timed(what: str, root: Path, *words: str) -> None:
    seconds, most = [], 0
    for _ in range(3):
        begun = time.perf_counter()
        process = subprocess.Popen(
            [sys.executable, "-m", "concordex", *words], cwd=root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        _, _, used = os.wait4(process.pid, 0)
        process.returncode = 0
        seconds.append(time.perf_counter() - begun)
        most = max(most, used.ru_maxrss // 1024)
    print(f"{what}: {statistics.median(seconds):.2f} s, {most} MB", flush=True)


def _loop() -> float:
    """Seconds of a fixed loop: how quick the machine is just now."""
    begun, total = time.perf_counter(), 0
    for number in range(300_000):
        total += number * number
    return time.perf_counter() - begun


if __name__ == "__main__":
    main()
