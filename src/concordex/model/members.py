"""Members of records by their dotted paths, such as ``chassis.serial``: read, written, left out, listed."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

Record = Mapping[str, Any]


def value_at(record: Any, path: str | None) -> Any:
    """The value at ``path``; None where there is none."""
    return None if path is None else along(record, path.split("."))


def along(record: Any, way: Iterable[str]) -> Any:
    """The value to which the names on the ``way`` lead; None where there is none."""
    for name in way:
        if not isinstance(record, dict):
            return None
        record = record.get(name)
    return record


def stands(record: Any, way: Iterable[str]) -> bool:
    """Whether something stands where the names on the ``way`` lead, be it null."""
    for name in way:
        if not isinstance(record, dict) or name not in record:
            return False
        record = record[name]
    return True


def put(record: Record, path: str, value: Any) -> dict[str, Any]:
    """``record`` with another value at ``path``; mappings on the way are made where there are none."""
    name, _, rest = path.partition(".")
    below = record.get(name)
    return {**record, name: put(below if isinstance(below, Mapping) else {}, rest, value) if rest else value}


def put_into(record: dict[str, Any], path: str, value: Any) -> None:
    """Set the member at ``path`` of ``record`` itself, making the mappings on the way."""
    if "." not in path:
        record[str(path)] = value  # a text and nothing more: it becomes a key of JSON
        return
    *parents, last = path.split(".")
    for name in parents:
        record = record.setdefault(name, {})
    record[last] = value


def pruned(record: Record, paths: Iterable[str]) -> dict[str, Any]:
    """``record`` without what stands at some paths."""
    made = dict(record)
    for path in paths:
        name, _, rest = path.partition(".")
        if rest and isinstance(made.get(name), Mapping):
            made[name] = pruned(made[name], [rest])
        elif not rest:
            made.pop(name, None)
    return made


def flat(record: Record, without: Iterable[str] = (), above: str = "") -> dict[str, Any]:
    """The values of all members by their paths, without those at some paths; lists are values."""
    values: dict[str, Any] = {}
    for name, value in record.items():
        path = above + name if above else name
        if path in without:
            continue
        if isinstance(value, dict) and value:
            values |= flat(value, without, f"{path}.")
        else:
            values[path] = value
    return values


def paths(value: Any, above: str = "") -> Iterator[str]:
    """The paths of all members of mappings, however deep; items of lists stand as []."""
    if isinstance(value, Mapping):
        for name, below in value.items():
            path = f"{above}.{name}" if above else str(name)
            yield path
            yield from paths(below, path)
    elif isinstance(value, list):
        for item in value:
            yield from paths(item, f"{above}[]")


def leaves(value: Any, above: str = "") -> Iterator[tuple[str, Any]]:
    """Each value that is neither a mapping nor a list, by its path; items of lists stand as ``[0]``."""
    if isinstance(value, Mapping):
        for name, below in value.items():
            yield from leaves(below, f"{above}.{name}" if above else str(name))
    elif isinstance(value, list):
        for at, item in enumerate(value):
            yield from leaves(item, f"{above}[{at}]")
    else:
        yield above, value


#: ``rights``, ``limits.most``, ``rights[2]``, ``rights[+]`` (one more), ``rights[=sign-in]`` (the item of that value).
_STEP = re.compile(r"([^.\[\]]+)|\[(\+|=[^\]]*|\d+)\]")


def way_of(path: str) -> list[str]:
    """The steps of a path that a person typed, which may lead into lists; ValueError where it is none."""
    way = [match.group(1) or f"[{match.group(2)}]" for match in _STEP.finditer(path)]
    if not way or "".join(f".{step}" if step[0] != "[" else step for step in way).lstrip(".") != path:
        raise ValueError(f"{path!r} is not a path: separate members by dots, and write items as [0], [+] or [=value]")
    return way


def edited(record: Record, path: str, value: Any, *, drop: bool = False) -> dict[str, Any]:
    """``record`` with another value at a ``path`` that a person typed, or without what stands there.

    ValueError where nothing does.
    """
    made = _edited(record, way_of(path), path, value, drop)
    assert isinstance(made, dict)
    return made


def _edited(here: Any, way: Sequence[str], path: str, value: Any, drop: bool) -> Any:
    step, rest = way[0], way[1:]
    if step[0] == "[":
        return _edited_list(here, step[1:-1], rest, path, value, drop)
    if not isinstance(here, Mapping):
        raise ValueError(  # noqa: TRY004 - the path is wrong, not the program
            f"{path}: there is no {step!r} in what is no mapping"
        )
    if drop and step not in here:
        raise ValueError(f"{path}: there is no {step!r}; there is: {', '.join(here)}")
    if drop and not rest:
        return {name: below for name, below in here.items() if name != step}
    return {**here, step: _edited(here.get(step, {}), rest, path, value, drop) if rest else value}


def _edited_list(here: Any, item: str, rest: Sequence[str], path: str, value: Any, drop: bool) -> list[Any]:
    if item == "+" and not rest and not drop:
        return [*(here or []), value]
    if not isinstance(here, list):
        raise ValueError(  # noqa: TRY004
            f"{path}: there is no list there"
        )
    n = _place(here, item)
    if n is None:
        raise ValueError(f"{path}: the list has no such item; it has: {', '.join(map(str, here[:8]))}")
    if drop and not rest:
        return [*here[:n], *here[n + 1 :]]
    return [*here[:n], _edited(here[n], rest, path, value, drop) if rest else value, *here[n + 1 :]]


def _place(items: Sequence[Any], item: str) -> int | None:
    """Where an item stands, by its number or its value."""
    if item.startswith("="):
        return next((n for n, value in enumerate(items) if str(value) == item[1:]), None)
    return int(item) if item != "+" and int(item) < len(items) else None
