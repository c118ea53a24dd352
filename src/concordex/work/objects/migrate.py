"""Objects on their way: copied under another name, edited, migrated from one system to another."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Field

from concordex.change.depend import closure, contents, kinds_inside
from concordex.change.objects import Kind, Kinds, Object, bonds, own_name, settled, unbound
from concordex.change.steps import Change
from concordex.documents import Part, parse_yaml, plain, read_as
from concordex.errors import CalledWrongly
from concordex.model.members import edited, put, value_at
from concordex.words import plural
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.objects.live import Held
from concordex.work.objects.pick import find, one_of
from concordex.work.objects.prepare import prepare_objects

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


#: How many objects are named where a note is about many.
_NAMED = 4


@dataclass(frozen=True, kw_only=True)
class Edits:
    """What becomes otherwise on the way: values by path, paths that go."""

    sets: Sequence[tuple[str, str]] = ()
    drops: Sequence[str] = ()

    def of(self, obj: Object, kinds: Kinds) -> Object:
        """The object with the edits."""
        body: Mapping[str, Any] = obj.body
        try:
            for path, value in self.sets:
                body = edited(body, path, _read(value, value_at(body, path)))
            for path in self.drops:
                body = edited(body, path, None, drop=True)
        except ValueError as error:
            raise CalledWrongly(f"{obj.label}: {error}") from error
        return replace(obj, body=settled(body, kinds[obj.kind]))


def _read(text: str, now: Any) -> Any:
    """A typed value as what stands there now is one: a text stays a text, yes and no are a flag's."""
    if isinstance(now, str):
        return text
    if isinstance(now, bool) and text.lower() in ("yes", "no"):
        return text.lower() == "yes"
    return plain(parse_yaml(text or "''", text))


def renamed(obj: Object, name: str, kinds: Kinds) -> Object:
    """A copy under another name, whole or its own; in what it stands, it stays."""
    parent = value_at(obj.body, kinds[obj.kind].within)
    whole = name if parent is None or name.startswith(f"{parent}/") else f"{parent}/{name}"
    return replace(obj, name=whole, nth=1, record_id=None)


def copies(obj: Object, made: Object, every: Sequence[Object], kinds: Kinds, *, bound: bool) -> list[Object]:
    """What stands in ``obj``, however deep, as it shall stand in its copy ``made``; ``bound`` as it is, or free."""
    called = {(obj.kind, obj.name): made.name}
    made_along = list[Object]()
    for other in contents([obj], every, kinds)[1:]:
        kind = kinds[other.kind]
        parent = str(value_at(other.body, kind.within))
        holder = called[kind.references[kind.within or ""], parent]
        called[other.kind, other.name] = f"{holder}/{other.name.removeprefix(f'{parent}/')}"
        made_along.append(other if bound else unbound(other, kind))
    return [_among(other, called, kinds) for other in made_along]


def _among(obj: Object, called: Mapping[tuple[str, str], str], kinds: Kinds) -> Object:
    """An object under the name that its copy has, where it refers to what else is copied, too."""

    def there(table: str, name: str) -> str:
        return called.get((table, name), name)

    body = dict(obj.body)
    for member, table in kinds[obj.kind].references.items():
        body = _each(body, member, partial(there, table))
    return replace(obj, name=called[obj.kind, obj.name], body=settled(body, kinds[obj.kind]), record_id=None)


@dataclass(frozen=True, kw_only=True)
class Original:
    """An object that is to be copied, and what is around it: ``held`` where it is, ``around`` where its copy goes."""

    obj: Object
    target: str
    here: Kinds
    there: Kinds
    held: Held
    around: Held

    def takes(self, made: Object) -> bool:
        """Whether the target takes an object of that name: it is free, or may be borne by several."""
        kind = self.there[made.kind]
        free = not any((obj.kind, obj.name) == (made.kind, made.name) for obj in self.around.objects)
        return free or kind.shares or kind.single is not None


def original(
    workspace: BaseWorkspace, address: str, to: str | None, read: Callable[[str, Iterable[str]], Held]
) -> Original:
    """The object that is to be copied, and what is around it here and there, as ``read`` reads it of a system."""
    system, kind, own = find(workspace, address)
    target = to or system
    chosen_kinds(workspace, target, [kind])
    kinds, there = chosen_kinds(workspace, system, []), chosen_kinds(workspace, target, [])
    inside = kinds_inside(kind, kinds)
    held = read(system, inside)
    around = held if target == system else read(target, [name for name in inside if name in there])
    obj = one_of(held, system, kind, own)
    return Original(obj=obj, target=target, here=kinds, there=there, held=held, around=around)


def copied(original: Original, edits: Edits, *, name: str | None, bound: bool) -> Object:
    """The copy of an object, under ``name``, with edits, and without what binds it unless ``bound``."""
    obj, kinds = original.obj, original.here
    made = edits.of(obj if bound else unbound(obj, kinds[obj.kind]), kinds)
    return renamed(made, name or own_name(obj.name, obj.body, kinds[obj.kind]), kinds)


def prepare_copy(
    workspace: BaseWorkspace, original: Original, made: Object, *, bound: bool = False
) -> tuple[Change, list[str]]:
    """The change that makes one new object, with what stands in it; and what a person should know of it."""
    target, kind = original.target, original.there[made.kind]
    inside = copies(original.obj, made, original.held.objects, original.here, bound=bound)
    _known(target, inside, original.there)
    there = [obj for obj in original.around.objects if (obj.kind, obj.name) == (made.kind, made.name)]
    if there and kind.single:
        raise CalledWrongly(
            f"{target} has its {made.label}, and there is one alone", advice=f"config migrate … --to {target} alters it"
        )
    if not original.takes(made):
        raise CalledWrongly(
            f"{target} has {made.label} already, and does not allow two of one name", advice="--as says another name"
        )
    notes = []
    if there:
        notes.append(f"{target} has {plural(len(there), 'object')} {made.label} already, and takes several of one name")
    if there and inside:  # which of several of one name holds an object is not told by a name
        notes.append(f"what stands in it stays behind: {plural(len(inside), 'object')}")
        inside = []
    if inside:
        notes.append(f"with {plural(len(inside), 'object')} that stand in it")
    wanted = [*there, replace(made, nth=len(there) + 1), *inside]
    change, _ = prepare_objects(workspace, target, wanted, original.around)
    return change, notes


Word = Annotated[str, Field(min_length=1)]


class Mapped(Part):
    """What is called otherwise where objects are migrated to."""

    format: int = Field(ge=1, le=1)
    names: dict[Word, str] = Field(default_factory=dict, description="Name, or KIND/NAME: the name there.")
    values: dict[Word, str] = Field(
        default_factory=dict, description="A text in any value, no part of another word or number: the text there."
    )


def read_map(path: Path) -> Mapped:
    """The mapping in a file."""
    return read_as(path, Mapped)


def migrated(
    chosen: Sequence[Object], held: Held, here: Kinds, there: Kinds, mapping: Mapped | None, *, bound: bool
) -> tuple[list[Object], list[str]]:
    """``chosen``, what stands in them, and all that these need, as they shall be in another system.

    And notes on what stays behind.
    """
    every, lost = closure(contents(chosen, held.objects, here), held.objects, here)
    notes = [f"{obj.label} needs {kind}/{name}, which is not there" for obj, (kind, name) in lost]
    _known("the other system", every, there)
    names = _Rewrite(mapping or Mapped(format=1))
    made = []
    behind: dict[str, list[str]] = {}
    for obj in every:
        kind = here[obj.kind]
        for member in [] if bound else bonds(obj, kind):
            behind.setdefault(member, []).append(obj.label)
        body = dict((obj if bound else unbound(obj, kind)).body)
        for member, table in kind.references.items():
            body = _each(body, member, partial(names.name, table))
        whole, parent = names.name(obj.kind, obj.name), value_at(body, kind.within)
        if whole == obj.name and parent is not None:
            whole = f"{parent}/{own_name(obj.name, obj.body, kind)}"
        made.append(replace(obj, name=whole, body=settled(names.values(body, kind), there[obj.kind]), record_id=None))
    for member, labels in behind.items():
        more = f", and {len(labels) - _NAMED:,} more" if len(labels) > _NAMED else ""
        notes.append(f"{member} stays behind (--bound takes it along): {', '.join(labels[:_NAMED])}{more}")
    if mapping:
        notes += [f"{name!r} of the mapping was not met" for name in names.unused]
    return made, notes


def _each(body: Mapping[str, Any], member: str, change: Callable[[str], str]) -> dict[str, Any]:
    value = value_at(body, member)
    if value in (None, "", []):
        return dict(body)
    return put(body, member, [change(str(item)) for item in value] if isinstance(value, list) else change(str(value)))


def _known(system: str, objects: Sequence[Object], kinds: Kinds) -> None:
    """Raise CalledWrongly where a system has no such kind of object."""
    strange = sorted({obj.kind for obj in objects} - kinds.keys())
    if strange:
        raise CalledWrongly(f"{system} has no kind of object called {strange[0]!r}")


class _Rewrite:
    """Names and texts put into the words of another system, each part of a whole name by itself."""

    def __init__(self, mapping: Mapped) -> None:
        self._told = mapping
        self._met: set[str] = set()
        self._texts = re.compile("|".join(map(_whole, sorted(mapping.values, key=len, reverse=True))) or "(?!)")

    def name(self, kind: str, name: str) -> str:
        for known in (f"{kind}/{name}", name):
            if known in self._told.names:
                self._met.add(known)
                return self._told.names[known]
        return name

    def values(self, body: Mapping[str, Any], kind: Kind) -> dict[str, Any]:
        return {name: value if name in kind.references else self._text(value) for name, value in body.items()}

    def _text(self, value: Any) -> Any:
        if isinstance(value, Mapping):
            return {name: self._text(item) for name, item in value.items()}
        if isinstance(value, list):
            return [self._text(item) for item in value]
        return self._texts.sub(self._other, value) if isinstance(value, str) else value

    def _other(self, match: re.Match[str]) -> str:
        self._met.add(match[0])
        return self._told.values[match[0]]

    @property
    def unused(self) -> list[str]:
        return [text for text in (*self._told.names, *self._told.values) if text not in self._met]


def _whole(text: str) -> str:
    """A pattern for a text that is no part of another word or number: 10.2 is not in 110.2, nor quay in quayside."""
    before = r"(?<![^\W_])" if text[0].isalnum() else ""
    after = r"(?![^\W_])" if text[-1].isalnum() else ""
    return f"{before}{re.escape(text)}{after}"
