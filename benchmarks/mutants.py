"""How strong the tests are: small faults are put into the source, and the tests of their part should fail.

Of all places where a fault can be put, a sample is drawn by a seed, the same number in each part; one fault is put at
each (but for type annotations, which nothing evaluates, and what guards programmers alone) by the mutation tester, in a
copy of the project, and the tests of that part run until one fails.  A fault that no test finds is shown: read it, and
write the test, or see why it means nothing.

    python benchmarks/mutants.py [PART…] [--each 40] [--seed 1] [--at-once 2]
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path
from typing import NamedTuple

from cosmic_ray.commands import init
from cosmic_ray.mutating import mutate_and_test
from cosmic_ray.work_db import use_db
from cosmic_ray.work_item import MutationSpec

ROOT = Path(__file__).resolve().parent.parent
#: Seconds after which a fault counts as found: the program hangs.
_LONGEST = 900

_STORIES = "tests/stories/test_"
#: A part of the source, and the tests that should find what is wrong with it, the quickest first.
PARTS: dict[str, tuple[list[str], list[str]]] = {
    "query": (["model", "query"], ["tests/model", "tests/query", f"{_STORIES}show.py"]),
    "match": (["match"], ["tests/match", f"{_STORIES}compared.py", f"{_STORIES}decisions.py"]),
    "change": (
        ["change"],
        [
            "tests/change",
            *(f"{_STORIES}{name}.py" for name in ("written", "sync", "targets", "adding", "changes", "objects")),
        ],
    ),
    "reading": (
        ["wire/reading"],
        ["tests/wire", *(f"{_STORIES}{name}.py" for name in ("pulls", "databases", "hostile", "windows", "nine"))],
    ),
    "run": (
        ["work/run"],
        [
            "tests/work",
            *(
                f"{_STORIES}{name}.py"
                for name in ("once", "compared", "sync", "targets", "adding", "changes", "objects")
            ),
        ],
    ),
}


class Fault(NamedTuple):
    """One small fault: where it is put, and what became of it."""

    part: str
    spec: MutationSpec


class Judged(NamedTuple):
    """Whether the tests found a fault, in how many seconds; and what it was."""

    fault: Fault
    found: bool
    seconds: float
    diff: str


def _places(part: str) -> Iterator[list[MutationSpec]]:
    """For each place in a part where something can be put, the faults that fit there."""
    files = [file for folder in PARTS[part][0] for file in sorted((ROOT / "src/concordex" / folder).rglob("*.py"))]
    found: dict[tuple[Path, tuple[int, int]], list[MutationSpec]] = defaultdict(list)
    with use_db(":memory:") as listed:
        init(files, listed, {})
        for item in listed.work_items:
            found[item.mutations[0].module_path, item.mutations[0].start_pos].append(item.mutations[0])
    spared = {file: {*_unevaluated(file), *_of_variables(file), *_for_programmers(file)} for file in files}
    for (file, start), specs in sorted(found.items()):
        if start[0] not in spared[file] and start not in spared[file]:
            yield specs


#: Before a function whose answers are remembered.
_REMEMBERED = re.compile(r"\s*@(lru_)?cache\b")
#: What is told the language, or a library, and changes nothing that is computed.
_GUARDS = ("frozen", "kw_only", "slots", "strict", "is_elementwise")


def _for_programmers(file: Path) -> Iterator[tuple[int, int]]:
    """Where arguments stand that guard against what is not written: that nothing is altered, or of other length; and
    where it says what is for type checkers alone, to be called by name, or to be remembered: without that it takes
    longer, and nothing else."""
    text = file.read_text(encoding="utf-8")
    for number, line in enumerate(text.splitlines(), start=1):
        if line.strip() in ("if TYPE_CHECKING:", "*,") or _REMEMBERED.match(line):
            yield from ((number, at) for at in range(len(line)))
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.keyword) and node.arg in _GUARDS and isinstance(node.value, ast.Constant):
            yield node.value.lineno, node.value.col_offset


def _unevaluated(file: Path) -> Iterator[int]:
    """The lines that hold annotations and nothing that runs."""
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            arguments = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
            spans = [one.annotation for one in arguments if one.annotation] + ([node.returns] if node.returns else [])
        else:
            spans = [node.annotation] if isinstance(node, ast.AnnAssign) and node.value is None else []
        for span in spans:
            yield from range(span.lineno, (span.end_lineno or span.lineno) + 1)


def _of_variables(file: Path) -> Iterator[tuple[int, int]]:
    """Where the annotations of variables stand: beside them on the line is what they are set to, which runs."""
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.AnnAssign) and node.value is not None:
            span = node.annotation
            yield from ((span.lineno, at) for at in range(span.col_offset, span.end_col_offset or span.col_offset))


def _sample(parts: list[str], each: int, seed: int) -> list[Fault]:
    """So many faults of each part, shuffled."""
    chance = random.Random(seed)
    drawn = []
    for part in parts:
        places = list(_places(part))
        drawn += [Fault(part, chance.choice(specs)) for specs in chance.sample(places, min(each, len(places)))]
    chance.shuffle(drawn)
    return drawn


def _copy(to: Path) -> None:
    """The project as it stands, in a folder of its own."""
    listed = subprocess.run(
        ["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True
    )
    for name in listed.stdout.splitlines():
        if (ROOT / name).is_file():
            (to / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(ROOT / name, to / name)


def _enter(folder: str) -> None:
    """Each worker has a copy of its own."""
    copy = Path(tempfile.mkdtemp(dir=folder))
    _copy(copy)
    os.chdir(copy)
    os.environ |= {
        "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1", "POLARS_MAX_THREADS": "1",
    }  # fmt: skip
    os.environ.pop("XDG_STATE_HOME", None)


def _judge(fault: Fault) -> Judged:
    """Put a fault into this worker's copy, and see whether the tests of its part find it."""
    begun = time.monotonic()
    here = MutationSpec(
        module_path=fault.spec.module_path.relative_to(ROOT), operator_name=fault.spec.operator_name,
        occurrence=fault.spec.occurrence, start_pos=fault.spec.start_pos, end_pos=fault.spec.end_pos,
        definition_name=fault.spec.definition_name, operator_args=fault.spec.operator_args,
    )  # fmt: skip
    tests = " ".join(PARTS[fault.part][1])
    result = mutate_and_test(
        [here], f"{sys.executable} -m pytest -x -q -p no:cacheprovider --hypothesis-profile first {tests}", _LONGEST
    )
    found = result.test_outcome is not None and result.test_outcome.value != "survived"
    return Judged(fault, found, time.monotonic() - begun, result.diff or "")


def main() -> None:
    """Draw a sample, judge each fault, and tell the shares."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("parts", nargs="*", metavar="PART", help=", ".join(PARTS))
    asked.add_argument("--each", type=int, default=40, help="How many faults of each part.")
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--at-once", type=int, default=2, help="How many are judged at a time.")
    given = asked.parse_args()
    faults = _sample(given.parts or list(PARTS), given.each, given.seed)
    judged: list[Judged] = []
    with (
        tempfile.TemporaryDirectory() as folder,
        ProcessPoolExecutor(given.at_once, get_context("spawn"), _enter, (folder,)) as pool,
    ):
        for at, done in enumerate(as_completed([pool.submit(_judge, fault) for fault in faults]), start=1):
            one = done.result()
            judged.append(one)
            where = f"{one.fault.spec.module_path.relative_to(ROOT)}:{one.fault.spec.start_pos[0]}"
            print(
                f"{at}/{len(faults)} {'found' if one.found else 'NOT FOUND'} in {one.seconds:.0f} s  {where}",
                flush=True,
            )
            if not one.found:
                print(one.diff, flush=True)
    for part in [*dict.fromkeys(one.fault.part for one in judged), "all"]:
        mine = [one.found for one in judged if part in (one.fault.part, "all")]
        print(f"{part}: {sum(mine)} of {len(mine)} found, {sum(mine) / len(mine):.0%}")


if __name__ == "__main__":
    main()
