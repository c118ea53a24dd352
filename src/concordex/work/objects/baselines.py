"""Baselines: where the saved objects of each system stand, and how much of it they are."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote, unquote

from pydantic import Field

from concordex.change.objects import Kinds, Object
from concordex.documents import Part, read_as, write_yaml
from concordex.errors import CalledWrongly, ConcordexError, Stopped
from concordex.progress import Advance
from concordex.work.objects.files import Saved, read_objects, save
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import Held, live_of
from concordex.work.objects.pick import matching

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

#: Beside the objects of a system; no object's file begins with a dot.
FILE = ".saved.yaml"


class SavedKind(Part):
    """How much of a kind was saved."""

    where: list[str] = Field(default_factory=list, description="Objects that one of these filters holds for; or all.")
    objects: int | None = Field(None, description="How many there were when saving had ended.")
    digest: str | None = Field(
        None, description="Of their names, as SHA-256: what was saved, whatever became of files."
    )
    unfinished: bool = Field(False, description="Saving has begun, and not ended.")

    @property
    def whole(self) -> bool:
        """Whether the files are all that was to be saved: only then is what they lack a reason to delete."""
        return self.objects is not None and not self.unfinished


class SavedFile(Part):
    """The whole file."""

    format: int = Field(ge=1, le=1)
    kinds: dict[str, SavedKind]


def folder_of(root: Path, name: str) -> Path:
    """Where the objects of a system, or of a device (DEVICES:ADDRESS), stand below ``root``."""
    system, _, address = name.partition(":")
    return root / system / quote(address, safe="") if address else root / system


def folders(workspace: BaseWorkspace, names: Sequence[str], root: Path) -> dict[str, Path]:
    """The baseline's folder of each system and device: of those named, or of all that have one and are not paused."""
    if not root.is_dir():
        raise CalledWrongly(f"there is no folder {root}", advice=f"concordex config save SYSTEM --into {root}")
    for name in names:
        if name not in workspace.config.devices:  # of devices, all that were saved
            workspace.target(name)
    places = {
        name: folder
        for name, folder in _every(workspace, root, skip_paused=not names)
        if not names or _is_meant(name, names)
    }
    for name in names:
        if not any(_is_meant(other, [name]) for other in places):
            raise CalledWrongly(
                f"{root} has no baseline of {name}", advice=f"concordex config save {name} --into {root}"
            )
    if not places:
        raise CalledWrongly(f"{root} has no baseline of any system here", advice="it holds a folder for each system")
    return places


def _is_meant(name: str, names: Sequence[str]) -> bool:
    return name in names or name.partition(":")[0] in names


def _every(workspace: BaseWorkspace, root: Path, *, skip_paused: bool) -> Iterable[tuple[str, Path]]:
    for name, system in workspace.config.systems.items():
        if (root / name).is_dir() and not (skip_paused and system.paused):
            yield name, root / name
    for name in workspace.config.devices:
        for folder in sorted((root / name).glob("*/")):
            yield f"{name}:{unquote(folder.name)}", folder


def saved_kinds(folder: Path) -> dict[str, SavedKind]:
    """What was saved in ``folder``, as it was said then; nothing where files were only put there."""
    path = folder / FILE
    if not path.is_file():
        return {}
    return read_as(path, SavedFile).kinds


def begin(folder: Path, kinds: Iterable[str]) -> None:
    """Write down, before the first file is touched, that ``kinds`` are not whole until saving has ended."""
    saved = saved_kinds(folder)
    _note(
        folder,
        saved,
        {**saved, **{k: saved.get(k, SavedKind()).model_copy(update={"unfinished": True}) for k in kinds}},
    )


def say(folder: Path, kinds: Iterable[str], where: str | None, names: Mapping[str, Sequence[str]]) -> None:
    """Write down that ``kinds`` are saved in ``folder``, whole or as far as a filter holds; ``names`` of each kind."""
    saved = saved_kinds(folder)
    now = dict(saved)
    for kind in kinds:
        before = saved.get(kind)
        filters = list(before.where) if before else []
        fresh = before is None or (before.unfinished and before.objects is None and not filters)
        if where is None:
            filters = []
        elif fresh or (filters and where not in filters):
            filters.append(where)
        listed = sorted(names.get(kind, ()))
        digest = hashlib.sha256("\n".join(listed).encode()).hexdigest()
        now[kind] = SavedKind(where=filters, objects=len(listed), digest=digest)
    _note(folder, saved, now)


def keep(folder: Path, names: Mapping[str, Sequence[str]]) -> None:
    """Write down that saving has ended, of kinds as they were said to be saved before."""
    for kind, listed in names.items():
        before = saved_kinds(folder).get(kind, SavedKind())
        digest = hashlib.sha256("\n".join(sorted(listed)).encode()).hexdigest()
        _note(
            folder,
            saved_kinds(folder),
            {**saved_kinds(folder), kind: SavedKind(where=before.where, objects=len(listed), digest=digest)},
        )


def _note(folder: Path, before: Mapping[str, SavedKind], now: Mapping[str, SavedKind]) -> None:
    if dict(now) != dict(before):
        kinds = {kind: now[kind].model_dump(exclude_defaults=True) for kind in sorted(now)}
        write_yaml(folder / FILE, {"format": 1, "kinds": kinds})


def half_saved(folder: Path, saved: Mapping[str, SavedKind]) -> str | None:
    """What says that the files in ``folder`` are not whole; nothing where saving has ended."""
    left = [kind for kind, part in saved.items() if part.unfinished]
    return f"{folder} was not saved to its end: {', '.join(left)}" if left else None


def save_in(
    workspace: BaseWorkspace,
    name: str,
    held: Held,
    kinds: Kinds,
    where: str | None,
    into: Path,
    progress: Advance | None = None,
) -> tuple[Path, Saved]:
    """Save the objects of a system or device in its folder below ``into``, and what of it that is."""
    folder = folder_of(into, name)
    mine = matching(workspace, held, kinds, where)
    try:
        done = save(mine, folder, kinds, () if where else list(kinds), progress, lambda: begin(folder, kinds))
    except KeyboardInterrupt as stop:
        raise Stopped(
            f"{folder} is only half saved: nothing is deleted because it is missing there",
            advice=f"concordex config save {name} --into {into}",
        ) from stop
    there = read_objects(folder, kinds) if where and folder.is_dir() else mine
    say(folder, kinds, where, {kind: [obj.label for obj in there if obj.kind == kind] for kind in kinds})
    return folder, done


def save_many(
    workspace: BaseWorkspace,
    names: Sequence[str],
    kinds: Sequence[str],
    where: str | None,
    into: Path,
    progress: Advance | None = None,
) -> dict[str, Saved | ConcordexError]:
    """Save the objects of several systems or devices, asked many at once; or why one could not be read."""
    chosen = {name: chosen_kinds(workspace, name, kinds) for name in names}
    held_by = live_of(workspace, {name: list(mine) for name, mine in chosen.items()}, progress)
    return {
        name: held if isinstance(held, ConcordexError) else save_in(workspace, name, held, chosen[name], where, into)[1]
        for name, held in held_by.items()
    }


def covered(
    workspace: BaseWorkspace, held: Held, saved: Mapping[str, SavedKind], baseline: Sequence[Object]
) -> list[Object]:
    """The live objects that ``baseline`` speaks of: those that it has, and those that would have been saved."""
    mine = {obj.key for obj in baseline}
    chosen: dict[object, Object] = {}
    for kind in {*saved, *(obj.kind for obj in baseline)}:
        filters = saved[kind].where if kind in saved else []
        where = " or ".join(f"({text})" for text in filters) if filters else None
        chosen |= {obj.key: obj for obj in matching(workspace, held, [kind], where)}
        chosen |= {obj.key: obj for obj in held.of([kind]) if obj.key in mine}
    return [obj for obj in held.objects if obj.key in chosen]


def may_go(
    workspace: BaseWorkspace, path: Path, kinds: Collection[str], held: Held, wanted: Sequence[Object]
) -> list[Object]:
    """What a folder has no longer, of those ``kinds`` of which it says that it holds all; nothing for a file."""
    saved = {name: obj for name, obj in saved_kinds(path).items() if name in kinds} if path.is_dir() else {}
    return [obj for obj in covered(workspace, held, saved, wanted) if obj.kind in saved and saved[obj.kind].whole]
