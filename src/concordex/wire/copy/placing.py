"""Values put where a path would find them: the opposite of reading an answer."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from concordex.wire.copy.declined import untold
from concordex.wire.dialect.paths import Path

#: The parts of a path (RFC 9535) that can be followed backwards: a name, the first item, and at its end all items, or
#: some of them.
_PART = re.compile(r"""\.(?P<plain>[A-Za-z_@#][\w:@#-]*)|\[(?:'(?P<one>[^']*)'|"(?P<two>[^"]*)")\]|\[(?P<first>0)\]""")
_SELECTED = re.compile(r"\[(?:\*|\?.*)\]", re.DOTALL)

Way = Sequence[str | int]


def way_to(path: Path) -> Way:
    """The members on the way to what a path finds, and places in lists; declined where it has no way back."""
    if path.steps is not None:
        return path.steps
    text, way, at = str(path), list[str | int](), 1
    while match := _PART.match(text, at):
        way.append(0 if match["first"] else match["plain"] or match["one"] or match["two"] or "")
        at = match.end()
    if text[at:] and not _SELECTED.fullmatch(text, at):
        raise untold(f"how an answer is made in which {text} finds something")
    return way


def placed(body: Any, way: Way, value: Any) -> Any:
    """``body`` with a value at the end of a way; what is missing on the way is made."""
    if not way:
        return value
    step, rest = way[0], way[1:]
    if isinstance(step, int):
        return [placed(body[0] if isinstance(body, list) and body else None, rest, value)]
    here = dict(body) if isinstance(body, Mapping) else {}
    here[step] = placed(here.get(step), rest, value)
    return here


def at_path(path: Path, value: Any) -> Any:
    """A body in which nothing but ``value`` stands where a path finds it."""
    return placed(None, way_to(path), value)
