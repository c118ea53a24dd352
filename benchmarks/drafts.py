"""How much of a dialect a draft gets right without a touch, beside the shipped dialects of the stand-ins.

    python benchmarks/drafts.py

Each stand-in is drafted from itself and its guide, and from a recording of a pull.  Right is: a table that is asked at
the same place with the same list; its pages and its total as the shipped dialect has them (what is not drafted is not
right); of the common fields of the shipped dialect those that the draft reads from the same member, and sure of it;
the way of signing in.  ``whole`` counts tables that a pull by the draft called whole, and those of them that were not.
"""

from __future__ import annotations

import shutil
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest.mock import patch

from concordex import Workspace
from concordex.model.fields import FIELDS
from concordex.standins.server import Harbour
from concordex.unseen import Unseen
from concordex.wire import dialect as d
from concordex.wire.dialect import load
from concordex.wire.http import recording
from concordex.work.learn.draft import draft_dialect

NAMES = ("fairlead", "masthead", "bollard", "muster", "crowsnest", "pilotage", "binnacle", "stowage", "purser")
GUIDES = Path(__file__).parent.parent / "docs" / "guides"


def workspace(folder: Path, harbour: Harbour) -> Workspace:
    """A workspace for the stand-ins, with their descriptions where they serve some."""
    (folder / "dialects").mkdir(parents=True)
    lines = ["format: 1", "systems:"]
    for standin in map(harbour.named, NAMES):
        lines += [f"  {standin.name}:", f"    dialect: {standin.dialect}", f"    url: {harbour.urls[standin.name]}"]
        lines += [f"    describes: {standin.describes}"] if standin.describes else []
        lines += ["    credentials:", *(f"      {name}: {value}" for name, value in standin.plain().items())]
        for name, value in standin.secrets().items():
            (folder / f"{standin.name}-{name}.secret").write_text(value + "\n")
            lines.append(f"      {name}: file:{standin.name}-{name}.secret")
        lines += [f"    tls: {{fingerprint: {harbour.fingerprint}}}"] if standin.tls else []
    (folder / "concordex.yaml").write_text("\n".join(lines) + "\n")
    return Workspace(folder)


def place(dialect: d.Dialect, table: d.Table) -> tuple[str, str]:
    """Where a table is asked for, whatever the names in its path are called."""
    import re

    base = f"/{dialect.base.strip('/')}" if dialect.base.strip("/") else ""
    said = table.read.rpc or f"{base}{table.read.path}"
    params = (
        ""
        if not table.read.rpc
        else str(sorted((k, str(v)) for k, v in table.read.params.items() if "{" not in str(v)))
    )
    return re.sub(r"\{[^}]*\}", "{}", str(said)) + params, str(table.read.records)


def pages(table: d.Table) -> dict[str, Any]:
    """How its list is cut, without what is only a size."""
    told = table.read.pages.model_dump(exclude_defaults=True)
    return {
        name: str(value)
        for name, value in told.items()
        if name not in ("size", "path_only", "reach", "span", "full", "time", "field")
    }


def compared(real: d.Dialect, drafted: d.Dialect) -> dict[str, tuple[int, int]]:
    """Of tables, pages, totals and fields: how many are right, and of how many."""
    found = {place(drafted, table): table for table in drafted.tables.values()}
    tables: dict[tuple[str, str], d.Table] = {}
    for table in real.tables.values():
        tables.setdefault(place(real, table), table)  # of two that are one list the first
    both = [(table, found[where]) for where, table in tables.items() if where in found]
    cut = [(a, b) for a, b in both if a.read.pages.by != "none"]
    totals = [(a, b) for a, b in both if isinstance(a.read.total, str)]
    fields = [
        (spec, other.fields.get(name))
        for table, other in both
        for name, spec in table.fields.items()
        if name in FIELDS and spec.from_ and name != "record_id"
    ]
    right = [1 for spec, own in fields if own and {*map(str, own.from_)} & {*map(str, spec.from_)}]
    return {
        "tables": (len(both), len(tables)),
        "ids": (sum(a.fields["record_id"].from_ == b.fields["record_id"].from_ for a, b in both), len(both)),
        "pages": (sum(pages(a) == pages(b) for a, b in cut), len(cut)),
        "totals": (sum(str(a.read.total).lower() == str(b.read.total).lower() for a, b in totals), len(totals)),
        "fields": (len(right), len(fields)),
        "sign-in": (int(real.sign_in.by == drafted.sign_in.by), 1),
    }


def whole(root: Path, name: str, text: str, truth: dict[tuple[str, str], int]) -> tuple[int, int]:
    """Of a pull by a draft: how many tables it called whole, and how many of these were not."""
    other = root.with_name(f"{root.name}-{name}")
    shutil.copytree(root, other, ignore=shutil.ignore_patterns(".concordex"))
    (other / "dialects" / "drafted.yaml").write_text(text)
    config = (other / "concordex.yaml").read_text()
    (other / "concordex.yaml").write_text(
        config.replace(f"  {name}:\n    dialect: {name}", f"  {name}:\n    dialect: drafted")
    )
    here = Workspace(other)
    drafted = load.from_text(text, "drafted.yaml")
    done = here.pull([name])
    called = [shot for shot in done.snapshots if shot.outcome == "whole"]
    wrong = [s for s in called if s.distinct < truth.get(place(drafted, drafted.tables[s.table]), 0)]
    return len(called), len(wrong)


def main() -> None:
    """Print a row for each stand-in and source, and their sums."""
    sums: dict[str, dict[str, list[int]]] = {}
    heads = ("tables", "ids", "pages", "totals", "fields", "sign-in")
    print(f"{'stand-in':10} {'from':10}", *(f"{head:>9}" for head in heads), "  whole  wrongly")
    with tempfile.TemporaryDirectory() as made, Harbour.of(900, moment=datetime.now(UTC)) as harbour:
        here = workspace(Path(made) / "w", harbour)
        recorded = Path(made) / "recorded"
        # as a browser records: with all that was sent
        with (
            patch.object(Unseen, "hidden", lambda _, text, **__: text),
            patch.object(recording, "is_credential", lambda _: False),
        ):
            here.rehearsals.record_pull(recorded, here.pull)
        for name in NAMES:
            real = here.dialect(name)
            truth = {place(real, real.tables[s.table]): s.distinct for s in here.memory.newest(system=name)}
            for source, given in (
                ("itself", [name, str(GUIDES / f"{name}.md")]),
                ("recording", [str(recorded / f"{name}.har")]),
            ):
                try:
                    draft = draft_dialect(here, "drafted", given)
                except Exception as error:
                    print(f"{name:10} {source:10} {error}")
                    told = {head: (0, of) for head, of in (("tables", len(real.tables)), ("sign-in", 1))}
                    called, wrong = 0, 0
                else:
                    told = compared(real, draft.dialect)
                    called, wrong = whole(here.root, name, draft.text, truth)
                    shutil.rmtree(here.root.with_name(f"{here.root.name}-{name}"))
                    print(
                        f"{name:10} {source:10}",
                        *(f"{a:>5}/{b:<3}" for a, b in (told[h] for h in heads)),
                        f"{called:>6} {wrong:>8}",
                    )
                into = sums.setdefault(source, {head: [0, 0] for head in (*heads, "whole")})
                for head, (right, of) in told.items():
                    into[head][0] += right
                    into[head][1] += of
                into["whole"][0] += called
                into["whole"][1] += wrong
    for source, told_all in sums.items():
        shares = " ".join(
            f"{head} {right / max(of, 1):.0%}" for head, (right, of) in told_all.items() if head != "whole"
        )
        print(f"{source}: {shares}; whole {told_all['whole'][0]}, wrongly {told_all['whole'][1]}")


if __name__ == "__main__":
    main()
