"""Lines for devices from a template: none but those that the template says, made in bounded time and room."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any

from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from jinja2 import Environment

#: Seconds that a template may take for one row, and how many signs it may write, or a value in it have.
_SECONDS, _SIGNS = 5.0, 1_000_000
#: The largest exponent that is meant; and what fills a text, or a list, up to a width that a template names.
_EXPONENT = 64
_FILLING = frozenset(
    ["center", "ljust", "rjust", "zfill", "expandtabs", "format", "format_map", "indent", "batch", "slice", "wordwrap"]
)
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
        made = _bounded().from_string(template.read_text(encoding="utf-8"))
    except OSError as error:
        raise CalledWrongly(f"{template} cannot be read", why=error.strerror or str(error)) from error
    except UnicodeDecodeError as error:
        raise CalledWrongly(f"{template} is not UTF-8 text: {error.reason}") from error
    except TemplateSyntaxError as error:
        raise CalledWrongly(f"{template}: line {error.lineno}: {error.message}") from error
    except RecursionError as error:
        raise CalledWrongly(f"{template} is nested too deeply") from error
    try:
        text = "".join(_pieces(made.generate({**values})))
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


def _pieces(pieces: Iterator[str]) -> Iterator[str]:
    written = 0
    for piece in pieces:
        written += len(piece)
        if written > _SIGNS:
            raise OverflowError(f"it writes more than {_SIGNS:,} characters")
        yield piece


def _bounded() -> Environment:
    """Jinja's sandbox, in which no loop goes on and no value grows without end."""
    from jinja2 import StrictUndefined, nodes
    from jinja2.sandbox import SandboxedEnvironment

    end = monotonic() + _SECONDS

    def counted(those: Iterable[Any]) -> Iterator[Any]:
        for item in those:
            if monotonic() > end:
                raise TimeoutError(f"it takes longer than {_SECONDS:g} s")
            yield item

    class Bounded(SandboxedEnvironment):
        """Sandboxed, and bounded."""

        intercepted_binops = frozenset(["*", "**", "%"])

        def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
            """The template, each loop of which looks at the clock."""
            made = super()._parse(source, name, filename)
            for loop in made.find_all(nodes.For):
                loop.iter = nodes.Filter(loop.iter, "counted", [], [], None, None)
            return made

        def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
            """The result of an operator, where that is no larger than anything that is meant."""
            if _grows(operator, left, right):
                raise OverflowError("a value grows too large")
            return super().call_binop(context, operator, left, right)

        def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
            """Whether a template may use an attribute; not those that fill a text up to any width."""
            return attr not in _FILLING and super().is_safe_attribute(obj, attr, value)

    environment = Bounded(  # lines are no markup: nothing is to be escaped
        undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True, autoescape=False
    )
    environment.filters = {name: item for name, item in environment.filters.items() if name not in _FILLING}
    environment.filters["counted"] = counted
    return environment


def _grows(operator: str, left: Any, right: Any) -> bool:
    """Whether an operator would make a value that is larger than anything that is meant."""
    if operator == "%":
        return isinstance(left, str) and re.search(r"%[^a-zA-Z%]*(?:\d{5}|\*)", left) is not None
    sizes = [operand if isinstance(operand, int | float) else len(operand) for operand in (left, right)]
    return abs(sizes[1]) > _EXPONENT if operator == "**" else abs(sizes[0] * sizes[1]) > _SIGNS
