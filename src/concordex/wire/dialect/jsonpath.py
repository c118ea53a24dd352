"""JSONPath (RFC 9535) that comes to an end: what a stranger's path may cost is bounded."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

import jsonpath_rfc9535 as library
import regex
from iregexp_check import check
from jsonpath_rfc9535.function_extensions import Match, Search
from jsonpath_rfc9535.function_extensions._pattern import map_re
from jsonpath_rfc9535.segments import JSONPathChildSegment, JSONPathRecursiveDescentSegment

from concordex.errors import BadAnswer

#: The longest path; a long one takes long to compile, and nests too deeply.
LONGEST = 1_000
#: Seconds in which one value is looked through, and what each further value of a column adds.
PATIENCE = 5.0
_EACH = 0.001


class Query:
    """A compiled path, and the same without its last step: where what it leads to would stand."""

    def __init__(self, text: str) -> None:
        """Raises ValueError where ``text`` is none, or is too long or nested too deeply for one."""
        if len(text) > LONGEST:
            raise ValueError(f"it has {len(text):,} characters, and may have {LONGEST:,}")
        self.text, self._bounds = text, _Bounded()
        try:
            self._whole = self._bounds.compile(text)
        except library.JSONPathError as error:
            raise ValueError(str(error).splitlines()[0]) from error
        except RecursionError as error:
            raise ValueError("it is nested too deeply") from error
        self._holder = type(self._whole)(env=self._bounds, segments=self._whole.segments[:-1])

    def values(self, value: Any) -> list[Any]:
        """All that stands at this path; raises BadAnswer where finding it takes too long."""
        return self.column([value])[0]

    def column(self, values: Sequence[Any]) -> list[list[Any]]:
        """The same for several values, which share the time."""
        columns: list[list[Any]] = self._in_time(
            lambda: [self._whole.find(value).values() for value in values], len(values)
        )
        return columns

    def has_place(self, value: Any) -> bool:
        """Whether what would hold it is there."""
        is_there: bool = self._in_time(lambda: bool(self._holder.find(value)), 1)
        return is_there

    def _in_time(self, find: Callable[[], Any], count: int) -> Any:
        patience = PATIENCE + _EACH * count
        self._bounds.until = time.monotonic() + patience
        try:
            return find()
        except TimeoutError as error:
            raise BadAnswer(
                f"what {self.text} finds was not found within {patience:.0f} s",
                advice="a path with one `..` or `*` less, or a simpler pattern, takes less",
            ) from error  # fmt: skip
        except (library.JSONPathRecursionError, RecursionError) as error:
            raise BadAnswer(f"what {self.text} is looked for in is nested too deeply") from error


class _Bounded(library.JSONPathEnvironment):
    """The library's way of reading paths, with an hour at which each search is over."""

    until = 0.0

    def __init__(self) -> None:
        self.parser_class = _Parser
        super().__init__()

    def setup_function_extensions(self) -> None:
        super().setup_function_extensions()
        self.function_extensions["match"] = _Matches(self)
        self.function_extensions["search"] = _Finds(self)

    def left(self) -> float:
        """Seconds that are left; raises TimeoutError where none are."""
        rest = self.until - time.monotonic()
        if rest <= 0:
            raise TimeoutError
        return rest


class _Parser(library.Parser):
    """The library's parser, whose steps look at the clock."""

    def parse(self, stream: Any, **how: Any) -> Iterator[Any]:
        """Each step of a path, also of one that stands in a filter."""
        for step in super().parse(stream, **how):
            kind = _Descendants if isinstance(step, JSONPathRecursiveDescentSegment) else _Children
            yield kind(env=step.env, token=step.token, selectors=step.selectors)


class _Watched:
    """A step that looks at the clock with each thing that it is given, and that it finds."""

    env: Any  # a _Bounded

    def resolve(self, nodes: Iterable[Any]) -> Iterator[Any]:
        """What stands below each of ``nodes``."""
        for node in super().resolve(self._each(nodes)):  # type: ignore[misc]
            self.env.left()
            yield node

    def _each(self, nodes: Iterable[Any]) -> Iterator[Any]:
        for node in nodes:
            self.env.left()
            yield node


class _Children(_Watched, JSONPathChildSegment):
    pass


class _Descendants(_Watched, JSONPathRecursiveDescentSegment):
    pass


class _Matches(Match):
    """``match()`` (RFC 9535, section 2.4.6)."""

    def __init__(self, bounds: _Bounded) -> None:
        self._bounds = bounds

    def __call__(self, text: Any, pattern: Any) -> bool:
        return _holds(regex.fullmatch, text, pattern, self._bounds)


class _Finds(Search):
    """``search()`` (RFC 9535, section 2.4.7)."""

    def __init__(self, bounds: _Bounded) -> None:
        self._bounds = bounds

    def __call__(self, text: Any, pattern: Any) -> bool:
        return _holds(regex.search, text, pattern, self._bounds)


def _holds(find: Callable[..., Any], text: Any, pattern: Any, bounds: _Bounded) -> bool:
    """Whether an I-Regexp (RFC 9485) is found in a text; what is none finds nothing."""
    if not isinstance(text, str) or not isinstance(pattern, str) or not check(pattern):
        return False
    try:
        return find(map_re(pattern), text, regex.VERSION1, timeout=bounds.left()) is not None
    except regex.error:
        return False
