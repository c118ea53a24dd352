"""Baselines: where the saved objects of each system stand, and how much of it they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote

from pydantic import Field

from concordex.change.objects import Kinds, Object
from concordex.documents import Part, read_as, write_yaml
from concordex.errors import CalledWrongly, ConcordexError
from concordex.work.objectfiles import Saved, save
from concordex.work.objects import Held, chosen_kinds, live_of
from concordex.work.pick import matching
from concordex.work.progress import Told

if TYPE_CHECKING:
    from concordex.work.workspace import Workspace

#: Beside the objects of a system; no object's file begins with a dot.
FILE = ".saved.yaml"


class SavedKind(Part):
    """How much of a kind was saved."""

    where: list[str] = Field(default_factory=list, description="Objects that one of these filters holds for; or all.")


class SavedFile(Part):
    """The whole file."""

    format: int = Field(ge=1, le=1)
    kinds: dict[str, SavedKind]


def folder_of(root: Path, name: str) -> Path:
    """Where the objects of a system, or of a device (DEVICES:ADDRESS), stand below ``root``."""
    system, _, address = name.partition(":")
    return root / system / quote(address, safe="") if address else root / system


def folders(workspace: Workspace, names: Sequence[str], root: Path) -> dict[str, Path]:
    """The baseline's folder of each system and device: of those named, or of all that have one and are not paused."""
    if not root.is_dir():
        raise CalledWrongly(f"there is no folder {root}", advice=f"concordex config save SYSTEM --into {root}")
    for name in names:
        if name not in workspace.config.devices:  # of devices, all that were saved
            workspace.target(name)
    found = {
        name: folder
        for name, folder in _every(workspace, root, skip_paused=not names)
        if not names or _is_meant(name, names)
    }
    for name in names:
        if not any(_is_meant(other, [name]) for other in found):
            raise CalledWrongly(
                f"{root} has no baseline of {name}", advice=f"concordex config save {name} --into {root}"
            )
    if not found:
        raise CalledWrongly(f"{root} has no baseline of any system here", advice="it holds a folder for each system")
    return found


def _is_meant(name: str, said: Sequence[str]) -> bool:
    return name in said or name.partition(":")[0] in said


def _every(workspace: Workspace, root: Path, *, skip_paused: bool) -> Iterable[tuple[str, Path]]:
    for name, system in workspace.config.systems.items():
        if (root / name).is_dir() and not (skip_paused and system.paused):
            yield name, root / name
    for name in workspace.config.devices:
        for folder in sorted((root / name).glob("*/")):
            yield f"{name}:{unquote(folder.name)}", folder


def said(folder: Path) -> dict[str, SavedKind]:
    """What was saved in ``folder``, as it was said then; nothing where files were only put there."""
    path = folder / FILE
    if not path.is_file():
        return {}
    return read_as(path, SavedFile).kinds


def say(folder: Path, kinds: Iterable[str], where: str | None) -> None:
    """Write down that ``kinds`` are saved in ``folder``, whole or as far as a filter holds."""
    was = said(folder)
    now = dict(was)
    for kind in kinds:
        before = was.get(kind)
        if where is None:
            now[kind] = SavedKind()
        elif before is None or (before.where and where not in before.where):
            now[kind] = SavedKind(where=[*(before.where if before else []), where])
    if now != was:
        told = {kind: {"where": list(now[kind].where)} if now[kind].where else {} for kind in sorted(now)}
        write_yaml(folder / FILE, {"format": 1, "kinds": told})


def save_in(
    workspace: Workspace,
    name: str,
    held: Held,
    kinds: Kinds,
    where: str | None,
    into: Path,
    told: Told | None = None,
) -> tuple[Path, Saved]:
    """Save the objects of a system or device in its folder below ``into``, and what of it that is."""
    folder = folder_of(into, name)
    done = save(matching(workspace, held, kinds, where), folder, kinds, () if where else list(kinds), told)
    say(folder, kinds, where)
    return folder, done


def save_many(
    workspace: Workspace,
    names: Sequence[str],
    kinds: Sequence[str],
    where: str | None,
    into: Path,
    told: Told | None = None,
) -> dict[str, Saved | ConcordexError]:
    """Save the objects of several systems or devices, asked many at once; or why one could not be read."""
    chosen = {name: chosen_kinds(workspace, name, kinds) for name in names}
    found = live_of(workspace, {name: list(mine) for name, mine in chosen.items()}, told)
    return {
        name: held if isinstance(held, ConcordexError) else save_in(workspace, name, held, chosen[name], where, into)[1]
        for name, held in found.items()
    }


def covered(
    workspace: Workspace, held: Held, saved: Mapping[str, SavedKind], baseline: Sequence[Object]
) -> list[Object]:
    """The live objects that ``baseline`` speaks of: those that it has, and those that would have been saved."""
    mine = {one.key for one in baseline}
    found: dict[object, Object] = {}
    for kind in {*saved, *(one.kind for one in baseline)}:
        filters = saved[kind].where if kind in saved else []
        told = " or ".join(f"({text})" for text in filters) if filters else None
        found |= {one.key: one for one in matching(workspace, held, [kind], told)}
        found |= {one.key: one for one in held.of([kind]) if one.key in mine}
    return [one for one in held.objects if one.key in found]
