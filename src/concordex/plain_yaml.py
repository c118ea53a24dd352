"""Plain values as YAML 1.2, in one form for each value: a library that can do all of YAML takes ten times as long."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

#: What stands without quotes and is a text to every reader: it begins with a letter, and holds no sign of YAML.
_BARE = re.compile(r"[^\W\d_](?:[\w./@+-]|[ ](?=[\w./@+(-])|[()](?=.))*")
#: What it would be taken for, by readers of YAML 1.1 too.
_WORDS = frozenset({"true", "false", "null", "yes", "no", "on", "off", "y", "n"})

#: A longer key stands on a line of its own (YAML 1.2.2, 7.4.2: 1,024 signs at most).
_LONGEST_KEY = 1_000


def plain_yaml(value: Any) -> str:
    """``value`` (mappings, lists, texts, numbers, flags, None) as a document; keys in their order."""
    lines = list[str]()
    _add(lines, value, "")
    return "\n".join(lines) + "\n"


def _add(lines: list[str], value: Any, margin: str) -> None:
    """Add the lines of a value, the first of which may follow a dash."""
    if isinstance(value, Mapping) and value:
        deeper = margin + "  "
        for name, below in value.items():
            key = _scalar(name)
            if len(key) > _LONGEST_KEY:
                lines.append(f"{margin}? {key}")
                key = ""
            if isinstance(below, Mapping | list | tuple) and below:
                lines.append(f"{margin}{key}:")
                _add(lines, below, deeper)
            else:
                first = len(lines)
                _add_text(lines, below, deeper)
                lines[first] = f"{margin}{key}: {lines[first]}"
    elif isinstance(value, list | tuple) and value:
        deeper = margin + "  "
        for item in value:
            first = len(lines)
            _add(lines, item, deeper)
            lines[first] = f"{margin}- {lines[first].removeprefix(deeper)}"
    else:
        _add_text(lines, value, margin)


def _add_text(lines: list[str], value: Any, margin: str) -> None:
    """Add what is neither a mapping nor a list; texts of several lines as a block (YAML 1.2.2, 8.1.2)."""
    if not isinstance(value, str) or "\n" not in value or not _is_block(value):
        lines.append(_scalar(value))
        return
    body = value.rstrip("\n")
    ends = len(value) - len(body)
    lines.append("|" + ("-" if ends == 0 else "" if ends == 1 else "+"))
    lines += (f"{margin}{line}" if line else "" for line in body.split("\n"))
    lines += [""] * (ends - 1)


def _is_block(text: str) -> bool:
    """Whether a text has several lines, of which each can be written as it is."""
    lines = text.rstrip("\n").split("\n")
    return "\n" in text and bool(lines[0]) and not lines[0][0].isspace() and all(map(str.isprintable, lines))


def _scalar(value: Any) -> str:
    if isinstance(value, str):
        return _string(str(value))
    if isinstance(value, float) and not math.isfinite(value):
        return ".nan" if math.isnan(value) else ".inf" if value > 0 else "-.inf"
    if isinstance(value, bool) or value is None:
        return {None: "null", True: "true", False: "false"}[value]
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, Mapping):
        return "{}"
    return "[]" if isinstance(value, list | tuple) else _quoted(str(value))


@lru_cache(maxsize=4096)
def _string(text: str) -> str:
    """A text of one line; keys, and much else, come again and again."""
    return text if _BARE.fullmatch(text) and text.lower() not in _WORDS else _quoted(text)


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
