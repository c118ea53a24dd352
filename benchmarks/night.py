"""A night in one workspace of 200 systems and five million records, and of a tenth of it.

python benchmarks/night.py [devices] …

The systems answer over HTTP with ready-made pages of 1,000, each after 20 ms: 199 managers, most of one of 49 regions,
which know the same devices from several sides, and the register that is brought up to date.  Each command is a process
of its own; told are its seconds, those of the processors, and the peak of its memory; then how they grow.
"""

from __future__ import annotations

import asyncio
import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path

import polars as pl

sys.path.insert(0, str(Path(__file__).parent))
from concordance import changed
from fleets import LEVELS, SYSTEMS, fleet
from large import run

PROGRAM = [sys.executable, "-m", "concordex"]
REGIONS, SIZE, LATENCY = 49, 1_000, 0.020
FIELDS = ("name", "serial", "uuid", "asset_tag", "maker", "model", "kind", "site", "user", "macs", "ips", "last_seen")
NIGHT = (
    ("pull", ["pull"]),
    ("reconcile", ["reconcile"]),
    ("findings", ["findings", "-o", "findings.csv"]),
    ("sync, a draft", ["sync", "register", "--draft"]),
    ("report", ["report", "-o", "report.html"]),
)
DIALECT = """\
format: 1
name: {role}
title: A list over HTTP
role: {role}
tables:
  devices:
    read:
      path: /devices
      records: items
      total: count
      pages: {{by: offset, offset: start, limit: size, size: {size}}}
    fields: {{record_id: id, {fields}}}
{write}"""
WRITE = """\
    write:
      keys: [serial, name]
      fields: {name: name, serial: serial, kind: kind, maker: maker, model: model, site: site}
      create: {path: /devices}
      update: {path: "/devices/{record_id}"}
      delete: {path: "/devices/{record_id}"}
"""


def make(folder: Path, devices: int) -> None:
    """Two nights of pages for each system below ``folder``, the second with one record in a hundred changed."""
    for night in (1, 2):
        records = fleet(devices, LEVELS["middle"], seed=1)
        if night == 2:
            records = changed(records)
        region = pl.col("device") % pl.when(pl.col("system") == SYSTEMS[-2]).then(3).otherwise(REGIONS)
        name = pl.format("{}-{}", "system", region)
        name = pl.when(pl.col("system") == SYSTEMS[-1]).then(pl.lit("register")).otherwise(name)
        records = records.with_columns(name.alias("at"), last_seen=pl.col("last_seen").dt.to_string("iso:strict"))
        for (system,), mine in records.group_by("at"):
            place = folder / str(night) / str(system)
            place.mkdir(parents=True)
            known = [one for one in FIELDS if one in mine.columns]
            lines = mine.select(pl.col("record_id").alias("id"), *known).write_ndjson().splitlines()
            parts = {str(at): lines[at : at + SIZE] for at in range(0, len(lines), SIZE)} | {"end": []}
            for start, part in parts.items():
                (place / f"{start}.json").write_text(f'{{"count":{len(lines)},"items":[{",".join(part)}]}}')
        print(records.height, records["at"].n_unique(), flush=True)


def serve(folder: Path) -> None:
    """The pages of a night, each after a while: what stands in the file ``night`` says which; until the input ends."""
    asked = re.compile(rb"GET /([\w-]+)/devices\?(?:\S*&)?start=(\d+)")

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                found = asked.match(await reader.readuntil(b"\r\n\r\n"))
                await asyncio.sleep(LATENCY)
                assert found, "none of our requests"
                system = folder / (folder / "night").read_text() / found[1].decode()
                file = system / f"{found[2].decode()}.json"
                body = (file if file.exists() else system / "end.json").read_bytes()
                head = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n"
                writer.write(head % len(body) + body)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()

    async def serving() -> None:
        server = await asyncio.start_server(talk, "127.0.0.1", 0)
        print(server.sockets[0].getsockname()[1], flush=True)
        await server.serve_forever()

    asyncio.run(serving())


def workspace(root: Path, pages: Path, port: int) -> None:
    """A workspace of all the systems that have pages."""
    (root / "dialects").mkdir(parents=True)
    fields = ", ".join(f"{name}: {name}" for name in FIELDS)
    for role, write in (("manager", ""), ("inventory", WRITE)):
        text = DIALECT.format(role=role, size=SIZE, fields=fields, write=write)
        (root / "dialects" / f"{role}.yaml").write_text(text)
    names = sorted(one.name for one in (pages / "1").iterdir())
    systems = {
        name: {"dialect": "inventory" if name == "register" else "manager",
               "url": f"http://127.0.0.1:{port}/{name}"} for name in names
    }  # fmt: skip
    (root / "concordex.yaml").write_text(f"format: 1\nsystems: {json.dumps(systems)}\n")


def nights(devices: int) -> dict[str, dict[str, float]]:
    """What each command of two nights took."""
    told: dict[str, dict[str, float]] = {}
    with tempfile.TemporaryDirectory() as name:
        pages, root = Path(name) / "pages", Path(name) / "workspace"
        made = subprocess.run(
            [sys.executable, __file__, "--make", str(pages), str(devices)], check=True, capture_output=True, text=True
        )
        records, systems = made.stdout.split()[:2]
        print(f"{devices:,} devices, {int(records):,} records, {systems} systems", flush=True)
        (pages / "night").write_text("1")
        command = [sys.executable, __file__, "--serve", str(pages)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as server:
            assert server.stdout
            try:
                workspace(root, pages, int(server.stdout.readline()))
                for night in ("1", "2"):
                    (pages / "night").write_text(night)
                    for what, words in NIGHT:
                        took = told[f"night {night}: {what}"] = run(
                            root, [*PROGRAM, *words], (0, 3)
                        )  # 3: it found some
                        print(
                            f"night {night}: {what:16} {took['seconds']:7.1f} s, {took['processor']:7.1f} s of"
                            f" processors, {took['peak'] / 1024:5.2f} GB", flush=True,
                        )  # fmt: skip
            finally:
                server.terminate()
        kept = sum(file.stat().st_size for file in (root / ".concordex").rglob("*") if file.is_file())
        whole = {"seconds": sum(one["seconds"] for one in told.values()),
                 "peak": max(one["peak"] for one in told.values())}  # fmt: skip
        print(f"both: {whole['seconds']:.0f} s, at most {whole['peak'] / 1024:.2f} GB, {kept / 2**30:.2f} GB kept")
    return told


def main(sizes: list[int]) -> None:
    """The nights of fleets of some sizes, and how the larger ones are beside the first."""
    told = [nights(devices) for devices in sizes]
    for devices, one in zip(sizes[1:], told[1:], strict=True):
        print(f"{devices / sizes[0]:.1f} times as many devices:")
        for what, took in one.items():
            first = told[0][what]
            grown = {key: took[key] / first[key] for key in ("seconds", "processor", "peak")}
            print(
                f"{what:25} {grown['seconds']:5.1f} times the seconds, {grown['processor']:5.1f} those of processors,"
                f" {grown['peak']:4.1f} the memory"
            )


if __name__ == "__main__":
    if sys.argv[1:2] == ["--make"]:
        make(Path(sys.argv[2]), int(sys.argv[3]))
    elif sys.argv[1:2] == ["--serve"]:
        serve(Path(sys.argv[2]))
    else:
        main([int(said) for said in sys.argv[1:]] or [157_000, 1_570_000])
