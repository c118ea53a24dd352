"""How much of a dialect a draft gets right without a touch, beside the shipped dialects of the stand-ins.

    python benchmarks/drafts.py [--strangers]

Each stand-in is drafted from itself and its guide, from a recording of all that is read of it in pages of twenty, as a
console shows them, and from both.  Right is: a table that is asked at the same place with the same list; its pages and
its total as the shipped dialect has them (what is not drafted is not right); of the common fields of the shipped
dialect those that the draft reads from the same member, and sure of it; the way of signing in.  ``whole`` counts tables
that a pull by the draft called whole, and those of them that were not.

With ``--strangers`` the same for services that others wrote, with manners of their own (benchmarks/strangers; they need
``pip install -e .[strangers]``), beside dialects that a person wrote for them.
"""

from __future__ import annotations

import argparse
import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest.mock import patch

import httpx

from concordex import Workspace
from concordex.documents import parse_yaml
from concordex.errors import ConcordexError
from concordex.model.fields import FIELDS
from concordex.standins.server import Harbour
from concordex.unseen import Unseen
from concordex.wire import dialect as d
from concordex.wire.dialect import load
from concordex.wire.http import recording
from concordex.work.learn.draft import draft_dialect

NAMES = ("fairlead", "masthead", "bollard", "muster", "crowsnest", "pilotage", "binnacle", "stowage", "purser")
STRANGERS = Path(__file__).parent / "strangers"
#: The services that others wrote: a port, credentials, and where they describe themselves.
OTHERS: Mapping[str, tuple[int, str, str]] = {
    "rows": (7101, "", ""),
    "records": (7102, "{user: quay, password: 'file:word.secret'}", "/v1/__api__"),
    "models": (7103, "{token: 'file:token.secret'}", "/api/schema/?format=json"),
    "resources": (7104, "", "/api/swagger.json"),
    "sets": (7105, "", "/$metadata"),
    "pages": (7106, "{username: quay, password: 'file:word.secret'}", "/openapi.json"),
    "crud": (7107, "", ""),
    "tables": (7108, "", "/openapi.json"),
    "quick": (7109, "{token: 'file:token.secret'}", "/api/openapi.json"),
    "headed": (7110, "{user: quay, password: 'file:word.secret'}", "/openapi.json"),
    "graph": (7111, "", "graphql:/"),
    "documents": (7112, "", ""),
    "features": (7113, "", "/openapi?f=json"),
    "objects": (7114, "{token: 'file:key.secret'}", ""),
    "marks": (7115, "{user: quay, password: 'file:word.secret'}", ""),
    "containers": (7116, "", "/schema/openapi.json"),
    "elements": (7117, "{user: quay, password: 'file:word.secret'}", ""),
    "lookups": (7118, "", ""),
}
#: Ways of paging that are as right as the one in the dialect, where a service has two.
ALSO = {
    "rows": {"by": "link_header", "limit": "_size"},
    "objects": {"by": "link", "next": "meta.next", "limit": "limit"},
    "elements": {"by": "link", "next": "root.next", "limit": "page_size"},
}
#: A console shows so many at once.
PAGE = 20
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
        "pages": (sum(pages(b) in (pages(a), ALSO.get(real.name)) for a, b in cut), len(cut)),
        "totals": (sum(str(a.read.total).lower() == str(b.read.total).lower() for a, b in totals), len(totals)),
        "fields": (len(right), len(fields)),
        "sign-in": (int(real.sign_in.by == drafted.sign_in.by), 1),
    }


def whole(root: Path, name: str, text: str, truth: dict[tuple[str, str], int]) -> tuple[int, int]:
    """Of a pull by a draft: how many tables it called whole, and how many of these were not."""
    other = root.with_name(f"{root.name}-{name}")
    shutil.copytree(root, other, ignore=shutil.ignore_patterns(".concordex"))
    (other / "dialects" / "drafted.yaml").write_text(text)
    drafted = load.from_text(text, "drafted.yaml")
    config = parse_yaml((other / "concordex.yaml").read_text(), "concordex.yaml")
    config["systems"] = {name: {**config["systems"][name], "dialect": "drafted"}}
    given = config["systems"][name].get("credentials") or {}
    by_kind = [[value for value in given.values() if (":" in value) is secret] for secret in (False, True)]
    named = {own: by_kind[spec.secret].pop(0) for own, spec in drafted.credentials.items() if by_kind[spec.secret]}
    config["systems"][name]["credentials"] = named  # whatever a person would call them
    (other / "concordex.yaml").write_text(json.dumps(config))
    here = Workspace(other)
    done = here.pull([name])
    called = [shot for shot in done.snapshots if shot.outcome == "whole"]
    wrong = [s for s in called if s.distinct < truth.get(place(drafted, drafted.tables[s.table]), 0)]
    return len(called), len(wrong)


def truth_of(here: Workspace, name: str) -> dict[tuple[str, str], int]:
    """How many records each list of a system has, by the dialect that is right."""
    real = here.dialect(name)
    return {place(real, real.tables[s.table]): s.distinct for s in here.memory.newest(system=name)}


def measured(here: Workspace, recorded: Path, names: Sequence[str]) -> None:
    """Print a row for each system and source, and their sums."""
    here.pull()
    truths = {name: truth_of(here, name) for name in names}
    for name in names:
        text = re.sub(r"(?<=, )size: \d+", f"size: {PAGE}", load.text_of(name, here.root / "dialects"))
        (here.root / "dialects" / f"{name}.yaml").write_text(text)
    here = Workspace(here.root)
    sums: dict[str, dict[str, list[int]]] = {}
    heads = ("tables", "ids", "pages", "totals", "fields", "sign-in")
    print(f"{'system':10} {'from':10}", *(f"{head:>9}" for head in heads), "  whole  wrongly")
    # as a browser records: with all that was sent
    with (
        patch.object(Unseen, "hidden", lambda _, text, **__: text),
        patch.object(recording, "is_credential", lambda _: False),
    ):
        here.rehearsals.record_pull(recorded, here.pull)
    for name in names:
        real = here.dialect(name)
        own = [name, *([str(guide)] if (guide := GUIDES / f"{name}.md").is_file() else [])]
        har = str(recorded / f"{name}.har")
        for source, given in (("itself", own), ("recording", [har]), ("both", [*own, har])):
            try:
                draft = draft_dialect(here, "drafted", given)
            except ConcordexError as error:
                print(f"{name:10} {source:10} {error}")
                told = {head: (0, of) for head, of in (("tables", len(real.tables)), ("sign-in", 1))}
                called, wrong = 0, 0
            else:
                told = compared(real, draft.dialect)
                called, wrong = whole(here.root, name, draft.text, truths[name])
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
            f"{head} {right / max(of, 1):.0%} ({right}/{of})"
            for head, (right, of) in told_all.items()
            if head != "whole"
        )
        print(f"{source}: {shares}; whole {told_all['whole'][0]}, wrongly {told_all['whole'][1]}")


@contextmanager
def strangers(root: Path) -> Iterator[Workspace]:
    """A workspace for the services that others wrote, while they run."""
    (root / "dialects").mkdir(parents=True)
    (root / "word.secret").write_text("watch-word\n")
    (root / "key.secret").write_text("quay:0123456789abcdef0123456789abcdef01234567\n")
    (root / "token.secret").write_text("0123456789abcdef0123456789abcdef01234567\n")
    lines = ["format: 1", "systems:"]
    running = []
    try:
        for name, (port, credentials, describes) in OTHERS.items():
            program = [sys.executable, str(STRANGERS / f"{name}.py"), str(port)]
            running.append(subprocess.Popen(program, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
            lines += [f"  {name}:", f"    dialect: {name}", f"    url: http://127.0.0.1:{port}"]
            lines += [f"    credentials: {credentials}"] if credentials else []
            lines += [f"    describes: {describes}"] if describes else []
        (root / "concordex.yaml").write_text("\n".join(lines) + "\n")
        for name in OTHERS:
            shutil.copy(STRANGERS / f"{name}.yaml", root / "dialects")
        here = Workspace(root)
        for name in OTHERS:
            _whole_there(here, name)
        yield here
    finally:
        for process in running:
            process.terminate()


def _whole_there(here: Workspace, name: str) -> None:
    """Wait until a service has its fleet, so that the dialect written for it pulls it whole."""
    for _ in range(120):
        try:
            httpx.get(here.config.systems[name].url, timeout=5)
            if all(shot.outcome == "whole" for shot in here.pull([name]).snapshots):
                return
        except (httpx.HTTPError, ConcordexError):
            pass
        time.sleep(0.5)
    raise SystemExit(f"{name} was not ready: is `pip install -e .[strangers]` done?")


def main() -> None:
    """Measure the stand-ins, or what others wrote."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--strangers", action="store_true")
    given = asked.parse_args()
    with tempfile.TemporaryDirectory() as made:
        root, recorded = Path(made) / "w", Path(made) / "recorded"
        if given.strangers:
            with strangers(root) as here:
                measured(here, recorded, list(OTHERS))
            return
        with Harbour.of(900, moment=datetime.now(UTC)) as harbour:
            measured(workspace(root, harbour), recorded, NAMES)


if __name__ == "__main__":
    main()
