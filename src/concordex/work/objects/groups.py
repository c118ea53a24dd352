"""Our own groups said in the way of a system whose groups are made of kinds and of other groups."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from concordex.change.objects import Kind, Object, settled
from concordex.change.steps import Change
from concordex.errors import CalledWrongly
from concordex.query.groups import Group
from concordex.query.parse import parse
from concordex.query.tree import Clause, Node, Or
from concordex.words import suggestion
from concordex.work.objects.live import live
from concordex.work.objects.prepare import prepare_objects
from concordex.work.targets.kinds import kinds_of
from concordex.work.workspace.groups import groups

if TYPE_CHECKING:
    from concordex.wire.dialect import Groups
    from concordex.work.workspace.base import BaseWorkspace


def prepare_groups(workspace: BaseWorkspace, names: Sequence[str], system: str) -> Change:
    """The change that makes groups, and those that they are made of, in a system; refused where one cannot be said."""
    workspace.systems([system])
    dialect = workspace.dialect(system)
    table, members = next(
        ((name, spec.config.groups) for name, spec in dialect.tables.items() if spec.config and spec.config.groups),
        (None, None),
    )
    if table is None or members is None:
        raise CalledWrongly(f"{system} has no groups, as far as its dialect says")
    known, kind = groups(workspace.root), kinds_of(dialect)[table]
    made: dict[str, Object] = {}
    for name in names:
        _say(name, known, kind, members, made)
    held = live(workspace, system, [table])
    there = {obj.name: obj.body for obj in held.of([table])}
    wanted = [replace(obj, body=settled({**there.get(obj.name, {}), **obj.body}, kind)) for obj in made.values()]
    change, _ = prepare_objects(workspace, system, wanted, held)
    return change


def _say(name: str, known: dict[str, Group], kind: Kind, members: Groups, made: dict[str, Object]) -> None:
    if name in made:
        return
    if name not in known:
        raise CalledWrongly(f"there is no group {name!r}", advice=suggestion(name, known))
    group = known[name]
    if group.all_of or group.but_not:
        raise CalledWrongly(f"the group {name!r} is not a union, and that system can hold only unions")
    kinds = _kinds(parse(group.where).node, name, group.where) if group.where else []
    for other in group.any_of:
        _say(other, known, kind, members, made)
    body = {members.kinds: kinds, members.groups: list(group.any_of)}
    made[name] = Object(kind=kind.table, name=name, body=settled(body, kind))


def _kinds(node: Node, name: str, text: str) -> list[str]:
    """The kinds that a filter asks for, if that is all that it asks."""
    if isinstance(node, Or):
        return [kind for part in node.parts for kind in _kinds(part, name, text)]
    if isinstance(node, Clause) and node.field.text == "kind" and node.operator in ("=", "in") and not node.counted:
        return [word.text for word in node.values]
    raise CalledWrongly(
        f"the group {name!r} asks for more than kinds ({text}), and that system can hold only kinds and unions",
        advice="kind = …, kind in (…), or --any-of other groups",
    )
