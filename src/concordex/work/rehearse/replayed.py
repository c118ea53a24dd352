"""Recordings in the place of systems: a pull, or a check, without a network and without a secret."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly
from concordex.landing import make_folder, write_text
from concordex.plain_yaml import plain_yaml
from concordex.wire.http.recording import Played, played, recordings
from concordex.work.pull.check import Finding, check
from concordex.work.pull.pull import Progress, Pull, pull
from concordex.work.workspace.base import BaseWorkspace

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect

#: Below a folder of recordings: the workspace in which they are played.
PLACE = "replayed"
#: What its configuration begins with: nothing else that is called so is ever removed.
_OURS = "# Recordings are played here, and this folder goes with the next time.\n"


def replay(
    workspace: BaseWorkspace | None,
    folder: Path,
    systems: Sequence[str] = (),
    tables: Sequence[str] = (),
    progress: Progress | None = None,
) -> tuple[Pull, Path]:
    """Pull what recordings answer, into a workspace of its own below their folder; dialects are those of ``workspace``.

    What was there of an earlier replay goes.
    """
    told = _told(folder)
    missing = [name for name in systems if name not in told]
    if missing:
        raise CalledWrongly(f"{folder} holds no recording of {missing[0]}", advice=f"it holds: {', '.join(told)}")
    place = place_of(folder)
    config = place / "concordex.yaml"
    if place.exists() and not (config.is_file() and config.read_text(encoding="utf-8").startswith(_OURS)):
        raise CalledWrongly(f"{place} is there, and is not of an earlier replay", advice="move it, or the recordings")
    shutil.rmtree(place, ignore_errors=True)
    there = _settled(workspace, place, told)
    try:
        return pull(there, list(systems), tables, progress), place
    finally:
        there.close()


def place_of(folder: Path) -> Path:
    """The workspace in which the recordings of a folder, or the one that is named, are played."""
    return (folder if folder.is_dir() else folder.parent) / PLACE


def check_against(workspace: BaseWorkspace | None, folder: Path, dialect: Dialect) -> list[Finding]:
    """Try each read of a dialect on the recordings that were made with it, or on all where none was."""
    told = _told(folder)
    mine = {name: one for name, one in told.items() if one.dialect == dialect.name} or told
    with _passing(folder) as place:
        there = _settled(workspace, place, mine)
        try:
            return check(there, list(mine), dialect)
        finally:
            there.close()


def _told(folder: Path) -> dict[str, Played]:
    if not folder.exists():
        raise CalledWrongly(f"there is no {folder}", advice="concordex pull --record DIR makes recordings")
    made = {one.system: one for one in map(played, recordings(folder))}
    if not made:
        raise CalledWrongly(f"{folder} holds no recording (.har)", advice="concordex pull --record DIR makes them")
    return made


@contextmanager
def _passing(folder: Path) -> Iterator[Path]:
    place = (folder if folder.is_dir() else folder.parent) / f".{PLACE}"
    try:
        yield place
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _settled(workspace: BaseWorkspace | None, place: Path, told: Mapping[str, Played]) -> BaseWorkspace:
    """A workspace whose systems are recordings, with the dialects of another one."""
    systems = {}
    for name, one in told.items():
        own = workspace.config.systems.get(name) if workspace is not None else None
        dialect = own.dialect if own is not None else one.dialect
        if not dialect:
            raise CalledWrongly(
                f"{one.path} does not say which dialect its system speaks", advice=f"add {name} to the workspace"
            )
        plain = {n: v for n, v in (own.credentials if own is not None else {}).items() if not v.startswith(_SCHEMES)}
        systems[name] = {"dialect": dialect, "url": one.url, "credentials": plain}
        systems[name] |= {"trust": dict(own.trust)} if own is not None and own.trust else {}
    make_folder(place)
    write_text(place / "concordex.yaml", _OURS + plain_yaml({"format": 1, "systems": systems}))
    if workspace is not None and (workspace.root / "dialects").is_dir():
        shutil.copytree(
            workspace.root / "dialects", place / "dialects", dirs_exist_ok=True, ignore=shutil.ignore_patterns("tests")
        )
    there = BaseWorkspace(place)
    there.played = told
    return there


_SCHEMES = ("env:", "file:", "keyring:", "command:", "ask:")
