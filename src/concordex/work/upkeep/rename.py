"""A system under another name: in the workspace's files, in all that was pulled of it, and in the journal.

First the files, then the catalogue, each whole; where that is cut off in between, the same once more goes on.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl
from pydantic import TypeAdapter, ValidationError

from concordex.documents import Slug, parse_yaml, read_text, yaml_text
from concordex.errors import CalledWrongly, Stopped
from concordex.store import renaming
from concordex.work.concordance import rulings
from concordex.work.upkeep.move import refuse_while_busy
from concordex.work.workspace.config import FILE, check_whole
from concordex.work.workspace.groups import FOLDER as GROUPS
from concordex.work.workspace.handwritten import alter

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

_WHAT = "a system is renamed"
#: Where the frames of a concordance name systems: columns with one, or a record of one, and columns with several.
_NAMING = {
    "members": ("system",), "agreement": ("system",), "entries": ("systems",), "findings": ("systems", "about"),
    "gone": ("systems", "about"),
}  # fmt: skip
#: What of a system's own settings may name systems; the others are its address, its dialect, its files.
_MAY_NAME = ("knows", "leave_out")


@dataclass(frozen=True, kw_only=True)
class Renamed:
    """What was renamed: places in files, changes that the journal notes so, and places that a person must look at."""

    places: int
    changes: int
    left: tuple[str, ...]


def rename(workspace: BaseWorkspace, old: str, new: str) -> Renamed:
    """Let a system be called ``new`` everywhere; raises Stopped where something runs, CalledWrongly where it cannot be.

    Where ``concordex.yaml`` has the new name already, because a person edited it or this was cut off, the rest follows.
    """
    workspace.allowed.require("decide")
    try:
        TypeAdapter(Slug).validate_python(new)
    except ValidationError:
        raise CalledWrongly(
            f"{new!r} is no name of a system", advice="lower-case letters, digits and dashes, such as muster-2"
        ) from None
    known = workspace.config.systems
    if new in {*known, *workspace.config.devices, *workspace.config.targets} and (old in known or new not in known):
        raise CalledWrongly(f"there is something called {new!r} already", advice="concordex system list")
    in_store = workspace.has_catalogue and renaming.is_known(workspace.memory.database, old)
    if not (old in known or (new in known and in_store)):
        workspace.systems([old])
    if in_store:
        refuse_while_busy(workspace, _WHAT)
        renaming.check(workspace.catalogue.database, old, new)
    places = _in_config(workspace, old, new) + _in_rulings(workspace, old, new)
    changes = _in_store(workspace, old, new) if in_store else 0
    kept, here = (workspace.store / "descriptions" / f"{name}.json" for name in (old, new))
    if kept.is_file() and not here.exists():
        kept.rename(here)
    return Renamed(places=places, changes=changes, left=tuple(_left(workspace, old)))


def _in_config(workspace: BaseWorkspace, old: str, new: str) -> int:
    path = workspace.root / FILE

    def check(document: Any) -> None:
        check_whole(workspace.root, parse_yaml(yaml_text(document), str(path)))

    return _in_file(workspace, path, lambda document: _Names(old, new).in_config(document), check)


def _in_rulings(workspace: BaseWorkspace, old: str, new: str) -> int:
    path = workspace.root / rulings.FILE
    return _in_file(workspace, path, lambda document: _Names(old, new).in_rulings(document)) if path.exists() else 0


def _in_file(
    workspace: BaseWorkspace, path: Path, put: Callable[[Any], int], check: Callable[[Any], None] = lambda _: None
) -> int:
    """Let a file say the new name, in how many places; one that does not name the system is not written."""
    if not put(parse_yaml(read_text(path), str(path))):
        return 0

    def put_and_check(document: Any) -> int:
        count = put(document)
        check(document)
        return count

    return alter(workspace, path, put_and_check)


class _Names:
    """One name that becomes another in a document, wherever it is a system's; how often it was."""

    def __init__(self, old: str, new: str) -> None:
        self.old, self.new, self.count = old, new, 0

    def in_rulings(self, document: Any) -> int:
        """All records and systems that ``rulings.yaml`` speaks of."""
        for ruling in document.get("rulings") or []:
            for listed in ("same", "apart"):
                self.listed(ruling.get(listed))
            for inner in ("value", "accept"):
                for key in ("of", "about"):
                    self.value(ruling.get(inner), key)
        return self.count

    def in_config(self, document: Any) -> int:
        """All places of ``concordex.yaml`` that name systems and nothing else, and the words of jobs."""
        self.member(document.get("systems"))
        rules = document.get("reconcile") or {}
        self.listed(rules.get("prefer"))
        for rule in (rules.get("fields") or {}).values():
            self.listed(rule.get("order") if isinstance(rule, dict) else rule)
        sync = document.get("sync")
        self.member(sync)
        for rule in (sync or {}).values():
            self.value(rule, "origin")
        for ignored in (document.get("drift") or {}).get("ignore") or []:
            self.value(ignored, "system")
        rights = document.get("rights") or {}
        for person in (rights.get("people") or {}).values():
            for grant in (person, *(person.get("grants") or [])):
                self.listed(grant.get("systems"))
        self.listed((rights.get("second_person") or {}).get("systems"))
        for job in (document.get("jobs") or {}).values():
            self.listed(job.get("systems"))
            self.member(job.get("apart"))
            for at, step in enumerate(job["steps"]):
                self.line(step, "run") if isinstance(step, dict) else self.line(job["steps"], at)
        return self.count

    def member(self, mapping: Any) -> None:
        """A member that is called so: it stays where it is, with its comments."""
        if not mapping or self.old not in mapping:
            return
        place, comment = list(mapping).index(self.old), mapping.ca.items.pop(self.old, None)
        mapping.insert(place, self.new, mapping.pop(self.old))
        if comment is not None:
            mapping.ca.items[self.new] = comment
        self.count += 1

    def listed(self, names: Any) -> None:
        """Each name, or record of one, in a list."""
        for at in range(len(names) if isinstance(names, list) else 0):
            self.value(names, at)

    def value(self, inside: Any, key: Any) -> None:
        """A name, or a record of one, by itself."""
        said = inside[key] if isinstance(inside, list) else (inside or {}).get(key)
        if isinstance(said, str) and (said == self.old or said.startswith(f"{self.old}/")):
            inside[key] = self.new + said[len(self.old) :]
            self.count += 1

    def line(self, inside: Any, key: Any) -> None:
        """A line that is run: its words but the first, and those after an option, which may be anything."""
        parts = re.split(r"(\s+)", inside[key])
        for at in range(2, len(parts), 2):
            if parts[at] == self.old and not parts[at - 2].startswith("-"):
                parts[at] = self.new
                self.count += 1
        if (made := "".join(parts)) != inside[key]:
            inside[key] = made


def _in_store(workspace: BaseWorkspace, old: str, new: str) -> int:
    """The catalogue and the newest concordance, together; of an older one no file is kept."""
    catalogue, row = workspace.catalogue, workspace.memory.reconciliation()
    folder = str(row["folder"]) if row else ""
    made = f"concordance/{row['id']:06d}-{secrets.token_hex(4)}" if row else ""
    if row:
        _rewritten(workspace, folder, made, old, new)
    try:
        with catalogue.database.atomic():
            refuse_while_busy(workspace, _WHAT)
            _refuse_another(workspace, folder)
            changes = renaming.rename(catalogue.database, old, new, workspace.allowed.who)
            if row:
                renaming.resettle(catalogue.database, made, old, new)
    except BaseException:
        if row:
            workspace.frames.forget(made)
        raise
    if row:
        workspace.frames.forget(folder)
    return changes


def _refuse_another(workspace: BaseWorkspace, folder: str) -> None:
    """The newest concordance is still the one that was rewritten: a reconcile is nothing that is seen to run."""
    row = workspace.catalogue.reconciliation()
    if (str(row["folder"]) if row else "") != folder:
        raise Stopped(f"somebody reconciled while {_WHAT}", advice="once more: it goes on where it was")


def _rewritten(workspace: BaseWorkspace, folder: str, made: str, old: str, new: str) -> None:
    """The frames of a concordance once more, in a folder of their own: what texts say stays until it is said anew."""
    frames = workspace.frames
    names = [name for name in workspace.catalogue.all_files() if name.startswith(f"{folder}/")]
    with frames.passing(made) as keep:
        for name in names:
            part = name.removeprefix(f"{folder}/").removesuffix(".parquet")
            keep(part, _renamed(frames.scan(name).collect(), _NAMING.get(part, ()), old, new))


def _renamed(frame: pl.DataFrame, columns: Sequence[str], old: str, new: str) -> pl.DataFrame:
    for column in columns:
        if isinstance(frame.schema[column], pl.List):
            frame = frame.with_columns(pl.col(column).list.eval(pl.element().replace(old, new)))
        else:
            is_record = pl.col(column).str.starts_with(f"{old}/")
            record = pl.lit(new) + pl.col(column).str.slice(len(old))
            frame = frame.with_columns(
                pl.when(is_record).then(record).otherwise(pl.col(column).replace(old, new)).alias(column)
            )
    return frame


def _left(workspace: BaseWorkspace, old: str) -> Iterator[str]:
    """Texts that may mean the system by its old name, for a person to look at: filters, lines and remarks."""
    word = re.compile(rf"(?<![\w-]){re.escape(old)}(?![\w-])")
    paths = [workspace.root / FILE, *sorted((workspace.root / GROUPS).glob("*.yaml"))]
    for path in paths:
        for place, text in _texts(parse_yaml(read_text(path), str(path)) or {}):
            own = place[0] == "systems" and len(place) > 2 and place[2] not in _MAY_NAME
            if word.search(text) and not own:
                yield f"{path.relative_to(workspace.root)}: {'.'.join(map(str, place))}: {text}"


def _texts(value: Any, *place: Any) -> Iterator[tuple[tuple[Any, ...], str]]:
    if isinstance(value, dict):
        for key, held in value.items():
            yield from _texts(held, *place, key)
    elif isinstance(value, list):
        for at, held in enumerate(value):
            yield from _texts(held, *place, at)
    elif isinstance(value, str):
        yield place, value
