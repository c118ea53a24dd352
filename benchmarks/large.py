"""A whole fleet from the command line: files are pulled and reconciled, again with one in a hundred changed, and again.

python benchmarks/large.py [devices] [rounds]

Each command is a process of its own; told are its seconds, those of the processors, and the peak of its memory; and
beside it the plain guarded join of the same records in the same round.
"""

from __future__ import annotations

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

import polars as pl

sys.path.insert(0, str(Path(__file__).parent))
from concordance import changed
from fleets import LEVELS, SYSTEMS, fleet
from scores import joined

_DIALECT = """\
format: 1
name: {name}
title: A list in a file
role: {role}
limits: {{answer: 4000000000}}
tables:
  devices:
    read: {{file: devices.ndjson, shape: {{by: ndjson}}, complete: written whole by the benchmark}}
    fields: {{record_id: $.record_id, {fields}}}
"""
_FIELDS = ("name", "serial", "uuid", "asset_tag", "maker", "model", "kind", "site", "user", "macs", "ips", "last_seen")


def main(devices: int, rounds: int) -> None:
    """Measure all of it."""
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        records = fleet(devices, LEVELS["middle"], seed=1).drop("device", "case")
        fields = [name for name in _FIELDS if name in records.columns]
        _workspace(root, fields)
        first, second = root / "first.parquet", root / "second.parquet"
        records.write_parquet(first)
        changed(records).write_parquet(second)
        print(f"{devices:,} devices, {records.height:,} records", flush=True)
        del records
        told: dict[str, list[dict[str, float]]] = {}
        for _ in range(rounds):
            for what, source, words in (
                ("pull", first, ["pull"]),
                ("reconcile", None, ["reconcile", "--relearn"]),
                ("pull of the same", first, ["pull"]),
                ("reconcile, nothing changed", None, ["reconcile"]),
                ("pull, one in a hundred changed", second, ["pull"]),
                ("reconcile, one in a hundred changed", None, ["reconcile"]),
            ):
                if source is not None:
                    _say(root, source, fields)
                told.setdefault(what, []).append(run(root, [*_concordex(), *words]))
            told.setdefault("guarded join", []).append(run(root, [sys.executable, __file__, "--guarded", str(first)]))
        for what, runs in told.items():
            shown = {key: statistics.median(run[key] for run in runs) for key in runs[0]}
            print(
                f"{what:36} {shown['seconds']:7.1f} s, {shown['processor']:7.1f} s of processors,"
                f" {shown['peak'] / 1024:5.2f} GB", flush=True,
            )  # fmt: skip


def _concordex() -> list[str]:
    return [str(Path(sys.executable).parent / "concordex")]


def _workspace(root: Path, fields: list[str]) -> None:
    (root / "dialects").mkdir()
    said = ", ".join(f"{name}: $.{name}" for name in fields)
    for at, name in enumerate(SYSTEMS):
        (root / name).mkdir()
        role = "manager" if at < len(SYSTEMS) - 2 else "inventory"
        (root / "dialects" / f"{name}.yaml").write_text(_DIALECT.format(name=name, role=role, fields=said))
    systems = "".join(f"  {name}: {{dialect: {name}, folder: {name}}}\n" for name in SYSTEMS)
    (root / "concordex.yaml").write_text(f"format: 1\nsystems:\n{systems}")


def _say(root: Path, source: Path, fields: list[str]) -> None:
    """Let the systems say what stands in ``source``."""
    for name in SYSTEMS:
        mine = pl.scan_parquet(source).filter(pl.col("system") == name).select("record_id", *fields)
        mine.with_columns(pl.col("last_seen").dt.to_string("iso:strict")).sink_ndjson(root / name / "devices.ndjson")


def run(root: Path, command: list[str], fine: Sequence[int] = (0,)) -> dict[str, float]:
    """Seconds, those of the processors, and the peak in megabytes of a command, which must end in one of those ways."""
    begun, before = time.perf_counter(), resource.getrusage(resource.RUSAGE_CHILDREN)
    code = (
        "import json, resource, subprocess, sys\n"
        "done = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)\n"
        "used = resource.getrusage(resource.RUSAGE_CHILDREN)\n"
        "print(json.dumps([done.returncode, done.stderr[-2000:], used.ru_maxrss, used.ru_utime + used.ru_stime]))\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *command], cwd=root, capture_output=True, text=True, check=True,
        env=os.environ | {"XDG_STATE_HOME": str(root / "state")},
    )  # fmt: skip
    status, said, peak, processor = json.loads(done.stdout)
    if status not in fine:
        raise SystemExit(f"{command}: {status}\n{said}")
    del before
    return {"seconds": time.perf_counter() - begun, "processor": processor, "peak": peak / 1024}


def guarded(source: Path) -> None:
    """The plain join of the records in ``source``."""
    joined(pl.read_parquet(source), "guarded")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--guarded"]:
        guarded(Path(sys.argv[2]))
    else:
        main(*(int(said) for said in [*sys.argv[1:3], *("775000", "1")[len(sys.argv) - 1 :]]))
