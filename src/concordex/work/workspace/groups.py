"""Named selections, one small file each in ``groups/``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import Field, model_validator

from concordex.documents import Part, check, fault_at, read_as, write_yaml
from concordex.errors import CalledWrongly
from concordex.model.fields import ASKABLE
from concordex.query.bind import Binder
from concordex.query.groups import Group, filter_of
from concordex.query.tree import clauses_of
from concordex.words import suggestion

if TYPE_CHECKING:
    from concordex.work.workspace.base import Workspace

FOLDER = "groups"


class GroupFile(Part):
    """A group: a filter, or a union, intersection or difference of other groups."""

    about: str = ""
    where: str | None = None
    any_of: list[str] = Field(default_factory=list, description="A union: what is in any of these groups.")
    all_of: list[str] = Field(default_factory=list, description="An intersection: what is in all of these groups.")
    but_not: list[str] = Field(default_factory=list, description="A difference: less what is in these groups.")

    @model_validator(mode="after")
    def _something(self) -> GroupFile:
        if not (self.where or self.any_of or self.all_of):
            raise fault_at(("where",), "a group says `where`, `any_of` or `all_of`")
        return self

    @property
    def group(self) -> Group:
        """As filters use it."""
        return Group(where=self.where, any_of=self.any_of, all_of=self.all_of, but_not=self.but_not)


def load(root: Path) -> dict[str, GroupFile]:
    """The groups of the workspace in ``root`` by name."""
    folder = root / FOLDER
    paths = sorted(folder.glob("*.yaml")) if folder.is_dir() else []
    return {path.stem: read_as(path, GroupFile) for path in paths}


def groups(root: Path) -> dict[str, Group]:
    """The groups of the workspace in ``root``, as filters use them."""
    return {name: file.group for name, file in load(root).items()}


def add(workspace: Workspace, name: str, settings: dict[str, Any]) -> None:
    """Write a group's file; refused where it could not be used."""
    path = _path(workspace, name)
    document = {key: value for key, value in settings.items() if value}
    with workspace.locks.of_file(path):
        known = groups(workspace.root)
        if name in known:
            raise CalledWrongly(f"there is a group {name!r} already", advice=f"edit {path}")
        query = filter_of(name, known | {name: check(document, GroupFile, str(path)).group})
        binder = Binder(query, ASKABLE, workspace.now())
        for clause in clauses_of(query.node):  # fields that only some tables have cannot be checked here
            if clause.field.text.lower() in ASKABLE:
                binder.bind(clause)
        write_yaml(path, document)


def remove(workspace: Workspace, name: str) -> None:
    """Remove a group that no other is made of."""
    known = groups(workspace.root)
    if name not in known:
        raise CalledWrongly(f"there is no group {name!r}", advice=suggestion(name, known))
    users = [other for other, group in known.items() if name in (*group.any_of, *group.all_of, *group.but_not)]
    if users:
        raise CalledWrongly(f"the group {name!r} is part of {', '.join(users)}", advice="remove it from there first")
    _path(workspace, name).unlink()


def _path(workspace: Workspace, name: str) -> Path:
    if not name or not all(sign.isalnum() or sign in "-_" for sign in name):
        raise CalledWrongly(f"{name!r} cannot be a group's name", advice="letters, digits and dashes")
    return workspace.root / FOLDER / f"{name}.yaml"
