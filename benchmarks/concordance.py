"""How right the concordance is, and how fast: fleets with known truth at three levels of noise.

python benchmarks/concordance.py [worlds | findings | quality | cases | million | speed | quick] …

worlds    nine systems, of which three only sight devices: ten seeds each at 20,000 devices, by hard case beside the
          guarded join, one at 200,000; and what is learned from twenty samples of one fleet
findings  of each kind of finding the share that is true, at 20,000 devices of the nine systems
quality   the concordance beside three plain joins, at 20,000 devices, the median of five seeds
cases     precision by hard case, beside the guarded join
million   the same fleets with a million records: quality must not fall with size
speed     seconds and memory from 10,000 to 2,500,000 records, each in a process of its own
quick     a little of the first and the last, in a minute
"""

from __future__ import annotations

import json
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import polars as pl

from concordex.match.blocks import candidates
from concordex.match.compare import levels
from concordex.match.concordance import PARTS, Concordance, Rules, reconcile
from concordex.match.finding import Scope
from concordex.match.frequencies import frequencies
from concordex.match.identity import identities, optional_prefixes, without
from concordex.match.incremental import reconcile_again
from concordex.match.learned import FRAMES
from concordex.match.link import Linked, link, sayings
from concordex.match.weights import learn
from concordex.store import snapshots as store

sys.path.insert(0, str(Path(__file__).parent))
from fleets import LEVELS, SYSTEMS, fleet
from scores import by_case, joined, knowing, scores
from worlds import INVENTORIES, MANAGERS, meanings, world
from worlds import LEVELS as WORLDS
from worlds import SYSTEMS as WORLD_SYSTEMS
from worth import worth

SEEDS = (1, 2, 3, 4, 5)
#: Of the nine systems: seeds that nothing was improved on.
UNSEEN = tuple(range(20, 30))
DEVICES, MILLION = 20_000, 310_000
MANNERS = ("name", "first key", "guarded")
SIZES = (3_100, 31_000, 310_000, 775_000)


def found_in(records: pl.DataFrame) -> tuple[pl.DataFrame, Linked]:
    """``records`` with their keys, and what is found in them."""
    keyed = identities(records.sort("system", "record_id"))
    keyed = without(keyed, optional_prefixes(keyed))
    return keyed, link(keyed, frequencies(keyed))


def linked(records: pl.DataFrame) -> pl.DataFrame:
    """``records`` with the entry of each."""
    keyed, made = found_in(records)
    return keyed.with_columns(pl.Series("entry", made.groups))


def worlds() -> None:
    """The harder fleets: their figures, the hard cases of all seeds together, and how much a sample matters."""
    for level in WORLDS:
        runs, known, cases, learned = [], [], [], []
        for seed in UNSEEN:
            records = world(DEVICES, level, seed)
            keyed, made = found_in(records)
            told = keyed.with_columns(pl.Series("entry", made.groups))
            runs.append(scores(told))
            known.append(scores(keyed.with_columns(knowing(keyed).alias("entry"))))
            learned.append(made.learned.weights.means().rename({"bits": str(seed)}).drop("one", "two"))
            row(f"{level}, seed {seed}", "concordex", runs[-1])
            guarded = records.with_columns(joined(records, "guarded").alias("entry"))
            row(f"{level}, seed {seed}", "guarded", scores(guarded))
            cases.append(by_case(told).join(by_case(guarded), on="case", suffix=", guarded"))
        row(level, "median", {key: statistics.median(one[key] for one in runs) for key in runs[0]})
        row(level, "worst", {key: min(one[key] for one in runs) for key in runs[0]})
        row(level, "knowing", {key: statistics.median(one[key] for one in known) for key in known[0]})
        shown = pl.concat(cases).group_by("case").agg(pl.exclude("case").median()).sort("case")
        for one in shown.iter_rows(named=True):
            print(
                f"{level:8} {one['case']:15} precision {one['precision']:.4f} (guarded {one['precision, guarded']:.4f})"
                f"  recall {one['recall']:.4f} (guarded {one['recall, guarded']:.4f})"
            )
        weights = pl.concat([learned[0], *(some.drop("kind", "means") for some in learned[1:])], how="horizontal")
        for kind, means, *bits in weights.iter_rows():
            print(f"{level:8} {kind:8} {means:45} " + " ".join(f"{one:6.1f}" for one in bits))
        row(f"{level}, 200,000 devices", "concordex", scores(linked(world(200_000, level, UNSEEN[0]))))
    samples()


def findings() -> None:
    """Of each kind how many there are, and the share that is true."""
    for level in WORLDS:
        told = []
        for seed in UNSEEN:
            records = world(DEVICES, level, seed)
            scope = Scope(inventories=INVENTORIES, managers=MANAGERS, all_managers=True)
            made = reconcile(records.drop("device", "case"), Rules(order=WORLD_SYSTEMS, scope=scope))
            told.append(worth(made, records.select("system", "record_id", "device"), meanings(DEVICES, level, seed)))
        shown = pl.concat(told).group_by("severity", "kind", "field", maintain_order=True)
        for one in shown.agg(pl.col("findings", "true", "told").median()).iter_rows(named=True):
            share = "not told" if one["true"] is None else f"{one['true']:.3f}"
            field = one["field"] or ""
            share += "" if one["told"] is None else f", false though something tells {one['told']:.3f}"
            print(f"{level:8} {one['severity']:8} {one['kind']:22} {field:10} {one['findings']:>7,.0f}  true {share}")


def samples() -> None:
    """F1 by what twenty samples of the candidates of a fleet teach."""
    records = world(5_000, "middle", 1)
    keyed = identities(records.sort("system", "record_id"))
    keyed = without(keyed, optional_prefixes(keyed))
    known = frequencies(keyed)
    first = link(keyed, known).learned
    said = sayings(keyed, known, first.words)
    seen = levels(said, *candidates(known, said.model.words + 1, said.site.words + 1))
    found = []
    for seed in range(20):
        weights = learn(seen[np.random.default_rng(seed).random(len(seen)) < 0.3])
        groups = link(keyed, known, learned=replace(first, weights=weights)).groups
        found.append(scores(keyed.with_columns(pl.Series("entry", groups)))["F1"])
    print(f"20 samples of three in ten: F1 {min(found):.4f} to {max(found):.4f}", flush=True)


def quality() -> None:
    """The table of the three levels."""
    for level, noise in LEVELS.items():
        runs: dict[str, list[dict[str, float]]] = {}
        for seed in SEEDS:
            records = fleet(DEVICES, noise, seed)
            for manner in MANNERS:
                told = records.with_columns(joined(records, manner).alias("entry"))
                runs.setdefault(manner, []).append(scores(told))
            runs.setdefault("concordex", []).append(scores(linked(records)))
        for manner, found in runs.items():
            row(level, manner, {key: statistics.median(one[key] for one in found) for key in found[0]})


def million() -> None:
    """The same at a million records, beside 20,000 devices of the same seed."""
    for level, noise in LEVELS.items():
        for devices in (DEVICES, MILLION):
            records = fleet(devices, noise, seed=1)
            row(f"{level}, {records.height:,} records", "concordex", scores(linked(records)))


def cases() -> None:
    """By hard case: precision beside the guarded join's, recall, and the errors."""
    for level in ("middle", "high"):
        records = fleet(DEVICES, LEVELS[level], SEEDS[0])
        ours = by_case(linked(records))
        plain = by_case(records.with_columns(joined(records, "guarded").alias("entry")))
        for one, other in zip(ours.iter_rows(named=True), plain.iter_rows(named=True), strict=True):
            print(
                f"{level:8} {one['case']:13} precision {one['precision']:.4f} (guarded {other['precision']:.4f})"
                f"  recall {one['recall']:.4f} (guarded {other['recall']:.4f})"
                f"  wrong pairs {one['wrong pairs']:5}  lost pairs {one['lost pairs']:5}"
            )


def row(level: str, manner: str, found: dict[str, float]) -> None:
    """One line of a table."""
    print(f"{level:28} {manner:10} " + "  ".join(f"{name} {value:.4f}" for name, value in found.items()), flush=True)


def speed(sizes: Sequence[int] = SIZES) -> None:
    """Seconds and the peak of memory: to entries; with merging, findings and their storing; after 1 % changed."""
    for devices in sizes:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "records.parquet")
            records = fleet(devices, LEVELS["middle"], seed=1).drop("device", "case")
            records.write_parquet(path)
            changed(records).write_parquet(path.with_name("changed.parquet"))
            height, told = records.height, []
            del records
            for what in ("entries", "whole", "again"):
                runs = [_measured(what, path) for _ in range(3)]
                seconds = statistics.median(run["seconds"] for run in runs)
                told.append(
                    f"{what} {seconds:6.2f} s, {seconds / height * 1e6:5.1f} s a million, {runs[0]['peak']:,.0f} MB"
                )
        print(f"{height:>9,} records: {'; '.join(told)}", flush=True)


def quick() -> None:
    """One fleet of each level by how right it is, and the speed of 100,000 records."""
    for level in WORLDS:
        keyed, made = found_in(world(DEVICES // 4, level, UNSEEN[0]))
        row(level, "concordex", scores(keyed.with_columns(pl.Series("entry", made.groups))))
    speed(SIZES[1:2])


def changed(records: pl.DataFrame) -> pl.DataFrame:
    """The same, but for one record in a hundred, of which each field is another record's one time in six."""
    rng = np.random.default_rng(7)
    chosen = rng.permutation(records.height)[: records.height // 100]
    donor = records[rng.integers(0, records.height, len(chosen))]
    mine = records[chosen]
    for name in records.columns:
        if name not in ("system", "record_id"):
            other = pl.Series(rng.random(len(chosen)) < 1 / 6)
            mine = mine.with_columns(pl.when(other).then(donor[name]).otherwise(mine[name]).alias(name))
    return pl.concat([records[np.setdiff1d(np.arange(records.height), chosen)], mine])


def _measured(what: str, path: Path) -> dict[str, float]:
    command = [sys.executable, __file__, "--one", what, str(path)]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    return dict(json.loads(done.stdout))


def one(what: str, path: Path) -> None:
    """Reconcile the records in ``path`` once, and say what it took."""
    begun = time.perf_counter()
    if what == "entries":
        linked(pl.read_parquet(path))
    else:
        scope = Scope(
            inventories=["assets", "register"], managers=list(SYSTEMS[:4]), all_managers=True,
            stale_before=datetime(2026, 11, 1, tzinfo=UTC),
        )  # fmt: skip
        rules = Rules(order=SYSTEMS, scope=scope)
        made = reconcile(pl.read_parquet(path), rules) if what == "whole" else _again(path, rules)
        for name, frame in made.frames().items():
            store.write(frame, path.with_name(f"{what}-{name}.parquet"), lasting=False)
    seconds = time.perf_counter() - begun
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"seconds": seconds, "peak": peak}))


def _again(path: Path, rules: Rules) -> Concordance:
    """From what the whole had left there."""
    last = {name: pl.read_parquet(path.with_name(f"whole-{name}.parquet")) for name in (*PARTS, *FRAMES)}
    made = reconcile_again(pl.read_parquet(path.with_name("changed.parquet")), rules, Concordance.of_frames(last))
    if made is None:
        raise SystemExit("too much has changed")
    return made


def main() -> None:
    """Run what is named, or all."""
    if sys.argv[1:2] == ["--one"]:
        one(sys.argv[2], Path(sys.argv[3]))
        return
    print(f"{datetime.now(UTC):%Y-%m-%d}, Python {platform.python_version()}, polars {pl.__version__}")
    for name in sys.argv[1:] or ("worlds", "findings", "quality", "cases", "million", "speed"):
        print(f"\n{name}")
        {
            "worlds": worlds,
            "findings": findings,
            "quality": quality,
            "cases": cases,
            "million": million,
            "speed": speed,
            "quick": quick,
        }[name]()


if __name__ == "__main__":
    main()
