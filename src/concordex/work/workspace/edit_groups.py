"""Groups added and removed: nothing that could not be used, nothing that is still used."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.documents import check, write_yaml
from concordex.errors import CalledWrongly
from concordex.model.fields import ASKABLE
from concordex.query.bind import Binder
from concordex.query.groups import filter_of
from concordex.query.tree import clauses_of
from concordex.words import suggestion
from concordex.work.workspace.groups import FOLDER, GroupFile, groups

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def add(workspace: BaseWorkspace, name: str, settings: dict[str, Any]) -> None:
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


def remove(workspace: BaseWorkspace, name: str) -> None:
    """Remove a group that no other is made of."""
    known = groups(workspace.root)
    if name not in known:
        raise CalledWrongly(f"there is no group {name!r}", advice=suggestion(name, known))
    users = [other for other, group in known.items() if name in (*group.any_of, *group.all_of, *group.but_not)]
    if users:
        raise CalledWrongly(f"the group {name!r} is part of {', '.join(users)}", advice="remove it from there first")
    _path(workspace, name).unlink()


def _path(workspace: BaseWorkspace, name: str) -> Path:
    if not name or not all(sign.isalnum() or sign in "-_" for sign in name):
        raise CalledWrongly(f"{name!r} cannot be a group's name", advice="letters, digits and dashes")
    return workspace.root / FOLDER / f"{name}.yaml"
