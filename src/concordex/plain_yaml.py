"""Plain values as YAML 1.2, in one form for each value: a library that can do all of YAML takes ten times as long."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from typing import Any

#: What stands without quotes and is a text to every reader: it begins with a letter, and holds no sign of YAML.
_BARE = re.compile(r"[^\W\d_](?:[\w./@+-]|[ ](?=[\w./@+(-])|[()](?=.))*")
#: What it would be taken for, by readers of YAML 1.1 too.
_WORDS = frozenset({"true", "false", "null", "yes", "no", "on", "off", "y", "n"})

#: A longer key stands on a line of its own (YAML 1.2.2, 7.4.2: 1,024 signs at most).
_LONGEST_KEY = 1_000


def plain_yaml(value: Any) -> str:
    """``value`` (mappings, lists, texts, numbers, flags, None) as a document; keys in their order."""
    return "\n".join(_lines(value, "")) + "\n"


def _lines(value: Any, margin: str) -> Iterator[str]:
    """The lines of a value, the first of which may follow a dash."""
    if isinstance(value, Mapping) and value:
        for name, below in value.items():
            key = _scalar(name)
            if len(key) > _LONGEST_KEY:
                yield f"{margin}? {key}"
                key = ""
            yield from _after(f"{margin}{key}:", below, margin + "  ")
    elif isinstance(value, list | tuple) and value:
        for item in value:
            first, *rest = _lines(item, margin + "  ")
            yield f"{margin}- {first.removeprefix(margin + '  ')}"
            yield from rest
    else:
        yield from _text(value, margin)


def _after(head: str, value: Any, margin: str) -> Iterator[str]:
    if isinstance(value, Mapping | list | tuple) and value:
        yield head
        yield from _lines(value, margin)
    else:
        first, *rest = _text(value, margin)
        yield f"{head} {first}"
        yield from rest


def _text(value: Any, margin: str) -> Iterator[str]:
    """What is neither a mapping nor a list; texts of several lines as a block (YAML 1.2.2, 8.1.2)."""
    if not isinstance(value, str) or not _is_block(value):
        yield _scalar(value)
        return
    body = value.rstrip("\n")
    ends = len(value) - len(body)
    yield "|" + ("-" if ends == 0 else "" if ends == 1 else "+")
    yield from (f"{margin}{line}" if line else "" for line in body.split("\n"))
    yield from [""] * (ends - 1)


def _is_block(text: str) -> bool:
    """Whether a text has several lines, of which each can be written as it is."""
    lines = text.rstrip("\n").split("\n")
    return "\n" in text and bool(lines[0]) and not lines[0][0].isspace() and all(map(str.isprintable, lines))


def _scalar(value: Any) -> str:
    if isinstance(value, str):
        return str(value) if _BARE.fullmatch(value) and value.lower() not in _WORDS else _quoted(value)
    if isinstance(value, float) and not math.isfinite(value):
        return ".nan" if math.isnan(value) else ".inf" if value > 0 else "-.inf"
    if isinstance(value, bool) or value is None:
        return {None: "null", True: "true", False: "false"}[value]
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, Mapping):
        return "{}"
    return "[]" if isinstance(value, list | tuple) else _quoted(str(value))


def _quoted(text: str) -> str:
    """A text in double quotes; what cannot be seen is escaped (YAML 1.2.2, 5.7)."""
    return f'"{"".join(map(_escaped, text))}"'


def _escaped(sign: str) -> str:
    if sign in '"\\':
        return f"\\{sign}"
    if sign.isprintable():
        return sign
    number = ord(sign)
    return _NAMED.get(sign) or (
        f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}" if number < 65536 else f"\\U{number:08x}"
    )


_NAMED = {"\n": "\\n", "\t": "\\t", "\r": "\\r"}
