"""Jinja's sandbox with bounds: what a template may do, and for how long."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from time import monotonic
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from jinja2 import Environment

#: Seconds that a template may take, and how many signs it may write, or a value in it have.
_SECONDS, _SIGNS = 5.0, 1_000_000
#: The largest exponent that is meant; and what fills a text, or a list, up to a width that a template names.
_EXPONENT = 64
_FILLING = frozenset(
    ["center", "ljust", "rjust", "zfill", "expandtabs", "format", "format_map", "indent", "batch", "slice", "wordwrap"]
)


def within_bounds(pieces: Iterator[str]) -> Iterator[str]:
    """What a template writes, piece by piece; OverflowError where that is more than anything that is meant."""
    written = 0
    for piece in pieces:
        written += len(piece)
        if written > _SIGNS:
            raise OverflowError(f"it writes more than {_SIGNS:,} characters")
        yield piece


def sandbox() -> Environment:
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
