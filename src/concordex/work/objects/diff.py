"""Two sides that are compared: files, systems as they are, systems as pulls had found them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.change.differ import Difference, differ
from concordex.change.objects import Kinds, Object, unbound
from concordex.errors import CalledWrongly
from concordex.model.scalars import parse_time
from concordex.progress import Advance
from concordex.work.objects.baselines import covered, half_saved, saved_kinds
from concordex.work.objects.files import read_objects
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import Held, live, pulled

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True)
class Side:
    """One side of a comparison: its objects; of a system what it ``held``, and how many of these kinds are ``left``."""

    objects: list[Object]
    kinds: Kinds
    held: Held | None = None
    left: int = 0


def sides(
    workspace: BaseWorkspace, before: str, now: str, names: Sequence[str], progress: Advance | None = None
) -> tuple[Side, Side]:
    """Two of: a file or folder, a system, a system at a date (``SYSTEM@DATE``); at least one is a system.

    Beside files, a system's side holds only what they speak of: the kinds, or the part of them, that were saved in
    a folder; else the objects that are there by name; of settings that stand alone, the sections that a file names.
    """
    systems = [name for name in (text.partition("@")[0] for text in (before, now)) if is_known(workspace, name)]
    if not systems:
        raise CalledWrongly("neither side is a system: whose objects are these?", advice="name a system on one side")
    kinds = chosen_kinds(workspace, systems[0], names)
    files = next((Path(text) for text in (before, now) if text.partition("@")[0] not in systems), None)
    if files is None:
        return _live(workspace, before, kinds, progress), _live(workspace, now, kinds, progress)
    every = chosen_kinds(workspace, systems[0], [])
    objects = [obj for obj in read_objects(files, every, progress) if obj.kind in kinds]
    saved = {kind: obj for kind, obj in (saved_kinds(files) if files.is_dir() else {}).items() if kind in kinds}
    if half := half_saved(files, saved):
        raise CalledWrongly(half, advice="concordex config save writes the rest")
    spoken = {*saved, *(obj.kind for obj in objects)}
    kinds = {name: kind for name, kind in kinds.items() if name in spoken}
    there = _live(workspace, now if files == Path(before) else before, kinds, progress)
    assert there.held
    mine = covered(workspace, there.held, saved, objects) if saved else _twins(objects, there.objects)
    left = 0 if saved else len(there.objects) - len(mine)
    there = replace(there, objects=_sections(mine, objects, kinds, saved), left=left)
    put = Side(objects, kinds)
    return (put, there) if files == Path(before) else (there, put)


def _twins(objects: Sequence[Object], live: Sequence[Object]) -> list[Object]:
    """The live object of each in a file: of several of its name one that is equal, or else the one of its number."""
    twins = []
    for obj in objects:
        named = [other for other in live if (other.kind, other.name) == (obj.kind, obj.name)]
        equal = [other for other in named if other.body == obj.body]
        twins += [replace(other, nth=obj.nth) for other in equal[:1]] or [o for o in named if o.nth == obj.nth]
    return twins


def is_known(workspace: BaseWorkspace, name: str) -> bool:
    """Whether a word means a system or a device, and no file."""
    return name in workspace.config.systems or workspace.is_device(name)


def _live(workspace: BaseWorkspace, text: str, kinds: Kinds, progress: Advance | None) -> Side:
    system, at, moment = text.partition("@")
    chosen_kinds(workspace, system, list(kinds))
    when = parse_time(moment) if at else None
    if at and when is None:
        raise CalledWrongly(f"{text}: {moment!r} is not a date", advice="an ISO 8601 date or time (UTC)")
    names = list(kinds)
    held = pulled(workspace, system, names, _end(when, moment)) if when else live(workspace, system, names, progress)
    return Side(held.of(kinds), kinds, held)


def _end(when: datetime, written: str) -> datetime:
    """A date means its end."""
    return when.replace(hour=23, minute=59, second=59) if len(written) == len("2026-11-01") else when


def compared(before: Side, now: Side, *, bound: bool = True) -> list[Difference]:
    """How the two sides differ; without what is ``bound`` to people and devices, if that is to be left aside."""
    earlier, later = (
        side.objects if bound else [unbound(o, side.kinds[o.kind]) for o in side.objects] for side in (before, now)
    )
    return differ(earlier, later, now.kinds)


def _sections(live: Sequence[Object], files: Sequence[Object], kinds: Kinds, saved: Collection[str]) -> list[Object]:
    """Of settings that stand alone, the sections of which a file speaks; all, where they were ``saved`` as a whole."""
    bodies = {obj.key: obj.body for obj in files if kinds[obj.kind].single and obj.kind not in saved}
    return [
        replace(obj, body={name: value for name, value in obj.body.items() if name in bodies.get(obj.key, obj.body)})
        for obj in live
    ]
