"""What whole fleets come to: each was compared with the truth, and whatever moves it is to be judged anew.

`python -m tests.match.test_judged` writes what they come to now; the benchmark `worlds` says whether it is better.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from benchmarks.fleets import LEVELS, fleet
from benchmarks.worlds import INVENTORIES, MANAGERS, MOMENT, SYSTEMS, world

from concordex.match import blocks
from concordex.match.choose import Choose
from concordex.match.compare import KINDS
from concordex.match.concordance import Rules, reconcile
from concordex.match.finding import Scope
from concordex.match.frequencies import frequencies
from concordex.match.identity import identities, without

FLEETS: dict[str, Callable[[], pl.DataFrame]] = {
    "of hard ones": lambda: world(900, "high", 4),
    "with other conventions": lambda: world(700, "middle", 2),
    "without sights": lambda: fleet(900, LEVELS["high"], seed=3),
}
JUDGED = Path(__file__).with_name("judged.json")


def came_to(records: pl.DataFrame) -> dict[str, float]:
    """Counts of all that reconciling makes, by name."""
    scope = Scope(
        inventories=INVENTORIES, managers=MANAGERS, all_managers=True, stale_before=MOMENT - timedelta(days=3)
    )
    by_field = {"model": Choose(by="agreed"), "name": Choose(by="specific"), "user": Choose(by="joined")}
    plain = records.drop("device", "case")
    made = reconcile(plain, Rules(order=SYSTEMS, scope=scope, by_field=by_field), resting=pl.col("status") == "stored")
    learned = made.learned
    told: dict[str, float] = {"entries": made.entries.height, "evidence": made.evidence.height}
    for kind, field, many in made.findings.group_by("kind", "field").len().sort("kind", "field").iter_rows():
        told[f"finding {kind} {field or ''}".strip()] = many
    told["signs in what findings say"] = int(made.findings["seen"].str.len_chars().sum())
    for share, many in made.findings.drop_nulls("share").group_by("share").len().sort("share").iter_rows():
        told[f"alike by {share}"] = many
    for part in ("evidence", "doubts"):
        pairs = made.part(part)
        told[f"bits of {part}"] = round(float(pairs["bits"].sum()), 1)
        for kind in KINDS:
            for level, many in pairs.group_by(kind).len().sort(kind).iter_rows():
                told[f"{part} {kind} {level}"] = many
    for at, kind in enumerate(KINDS):
        told[f"weight of {kind}"] = round(float(np.abs(learned.weights.table[at]).sum()), 1)
    systems = made.members["system"]
    for field in made.sources.columns[1:]:
        given = systems.gather(made.sources[field].drop_nulls()).value_counts(sort=True)
        told |= {f"{field} from {system}": many for system, many in sorted(given.iter_rows())}
    for list_of in ("macs", "ips"):
        told[f"all {list_of}"] = int(made.entries[list_of].list.len().sum())
    for system, *counts in made.agreement.iter_rows():
        told |= {f"agreement of {system} {at}": many for at, many in enumerate(counts) if isinstance(many, int)}
    keyed = without(identities(plain, ()), learned.prefixes)
    known = frequencies(keyed, learned.docks, learned.sighting)
    nothing = np.zeros(keyed.height, dtype=np.int64)
    told["candidates"] = len(blocks.candidates(known, nothing, nothing)[0])
    for name in ("serial", "uuid", "tag", "name", "cut", "user", "theirs"):
        column = getattr(known, name)
        told[f"bearers of {name}"] = int(column.bearers.sum())
        told[f"systems of {name}"] = int(column.systems.sum())
    for name in ("macs", "drawn", "ips"):
        told[f"bearers of {name}"] = sum(int(column.bearers.sum()) for column in getattr(known, name))
    told["near serials"] = sum(int((column.values != 0).sum()) for column in known.near)
    told["of a network"] = int((known.network != 0).sum())
    return told


@pytest.mark.parametrize("name", FLEETS)
def test_a_fleet_comes_to_what_was_judged(name):
    """But for what another order of adding up may tip."""
    judged = json.loads(JUDGED.read_text())[name]
    found = came_to(FLEETS[name]())
    assert found.keys() == judged.keys()
    assert found == pytest.approx(judged, rel=5e-4, abs=1)


if __name__ == "__main__":
    JUDGED.write_text(json.dumps({name: came_to(make()) for name, make in FLEETS.items()}, indent=1) + "\n")
