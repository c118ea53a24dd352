"""Lines for devices from a template: none but those that the template says, made in bounded time and room."""

from __future__ import annotations

import unicodedata
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from concordex.errors import CalledWrongly
from concordex.work.workspace.sandbox import sandbox, within_bounds

#: What is no text within a line: controls, ends of lines and paragraphs.
_NO_TEXT = ("Cc", "Zl", "Zp")
#: Signs by which a line would look otherwise than it is (Unicode Standard Annex 9, sections 2.1 to 2.5).
_TURNING = set("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def rendered(template: Path, values: Mapping[str, Any]) -> list[str]:
    """The lines that a template makes of a row; ValueError says which line of the template cannot be meant.

    In Jinja's sandbox, and strict: a name that the row does not have is a mistake, not an empty text.  A value of the
    row is a part of a line and never makes a second one.
    """
    from jinja2 import TemplateSyntaxError

    for name, value in values.items():
        if (bad := _no_text_in(value)) is not None:
            raise ValueError(f"{name} holds {bad}, which cannot be part of a line: {str(value)[:60]!r}")
    try:
        made = sandbox().from_string(template.read_text(encoding="utf-8"))
    except OSError as error:
        raise CalledWrongly(f"{template} cannot be read", why=error.strerror or str(error)) from error
    except UnicodeDecodeError as error:
        raise CalledWrongly(f"{template} is not UTF-8 text: {error.reason}") from error
    except TemplateSyntaxError as error:
        raise CalledWrongly(f"{template}: line {error.lineno}: {error.message}") from error
    except RecursionError as error:
        raise CalledWrongly(f"{template} is nested too deeply") from error
    try:
        text = "".join(within_bounds(made.generate({**values})))
    except Exception as error:  # whatever a template does: it is a mistake in it, and none of ours
        raise ValueError(f"the template cannot be filled: {str(error) or type(error).__name__}") from error
    lines = [line.rstrip() for line in text.split("\n")]
    for line in lines:
        if (bad := _no_text(line)) is not None:
            raise ValueError(f"{line[:60]!r} holds {bad}, which is not text")
    return [line for line in lines if line]


def _no_text_in(value: Any) -> str | None:
    """The same, of whatever a row holds."""
    if isinstance(value, Mapping):
        value = [*value.keys(), *value.values()]
    if isinstance(value, list | tuple):
        return next((bad for part in value if (bad := _no_text_in(part))), None)
    return _no_text(value) if isinstance(value, str) else None


def _no_text(text: str) -> str | None:
    """What of a text is no part of a line, by its name; nothing where all is."""
    for sign in text:
        if unicodedata.category(sign) in _NO_TEXT or sign in _TURNING:
            return f"U+{ord(sign):04X}"
    return None
