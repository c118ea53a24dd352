"""Which objects are meant: by SYSTEM/KIND/NAME, by a filter on their records."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from concordex.change.objects import Object
from concordex.errors import CalledWrongly
from concordex.query.predicate import predicate_of
from concordex.words import suggestion
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import Held

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


def find(workspace: BaseWorkspace, address: str) -> tuple[str, str, str]:
    """``SYSTEM/KIND/NAME`` in its parts; the name may hold slashes."""
    system, _, rest = address.partition("/")
    kind, _, name = rest.partition("/")
    if not (system and kind and name):
        raise CalledWrongly(f"{address!r} is not an object", advice="say SYSTEM/KIND/NAME, as `config list` has them")
    chosen_kinds(workspace, system, [kind])
    return system, kind, name


#: How several of one name are told apart, as lists do.
_NUMBERED = re.compile(r"(.*) \(no\. (\d+)\)")


def one_of(held: Held, system: str, kind: str, name: str) -> Object:
    """The object of that name, or ``NAME (no. N)``; an error with the nearest where there is none, or several."""
    mine = held.of([kind])
    bearers = [obj for obj in mine if obj.name == name]
    numbered = _NUMBERED.fullmatch(name)
    if not bearers and numbered:
        bearers = [obj for obj in mine if (obj.name, obj.nth) == (numbered[1], int(numbered[2]))]
    if not bearers:
        raise CalledWrongly(
            f"{system} has no object {kind}/{name}", advice=suggestion(name, [obj.name for obj in mine])
        )
    if len(bearers) > 1:
        labels = [f"{name} (no. {obj.nth})" for obj in bearers]
        raise CalledWrongly(
            f"{system} has {len(bearers)} objects {kind}/{name}", advice=f"say which one: {', '.join(labels[:8])}"
        )
    return bearers[0]


def at(workspace: BaseWorkspace, held: Held, system: str, addresses: Sequence[str]) -> list[Object]:
    """The objects of one system that addresses mean: SYSTEM/KIND/NAME, SYSTEM/KIND, or SYSTEM."""
    meant: dict[object, Object] = {}
    for address in addresses:
        other, _, rest = address.partition("/")
        if other != system:
            raise CalledWrongly(f"{address} is not of {system}: one system at a time")
        kind, _, name = rest.partition("/")
        if name:
            named = [one_of(held, *find(workspace, address))]
        else:
            named = held.of(chosen_kinds(workspace, system, [kind] if kind else []))
        meant |= {obj.key: obj for obj in named}
    return list(meant.values())


def matching(workspace: BaseWorkspace, held: Held, kinds: Iterable[str], where: str | None) -> list[Object]:
    """The objects of ``kinds`` whose records a filter holds for; all without one."""
    if where is None:
        return held.of(kinds)
    chosen: set[tuple[str, str]] = set()
    query = workspace.query(where)
    for kind in kinds:
        frame = held.frames[kind]
        chosen |= {(kind, rid) for rid in frame.filter(predicate_of(frame, query, workspace.now()))["record_id"]}
    return [obj for obj in held.of(kinds) if (obj.kind, str(obj.record_id)) in chosen]
