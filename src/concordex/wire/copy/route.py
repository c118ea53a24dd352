"""A request that a dialect makes, and what answers it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from concordex.wire import dialect as d
from concordex.wire.copy.asked import Asked, Pattern

Values = dict[str, Any]


@dataclass
class Given:
    """An answer: what stands in its body, before that is written as its shape says."""

    body: Any = None
    status: int = 200
    headers: dict[str, str] = field(default_factory=dict)
    cookies: dict[str, str] = field(default_factory=dict)
    shape: d.Shape | None = None


@dataclass
class Sent:
    """An answer as it is sent."""

    status: int
    content: bytes
    headers: dict[str, str]
    cookies: dict[str, str]


@dataclass
class Noted:
    """What came of requests: how many there were and how many wrote; what was refused, and what is not told."""

    requests: int = 0
    writes: int = 0
    refused: Counter[str] = field(default_factory=Counter)
    untold: Counter[str] = field(default_factory=Counter)


@dataclass
class Route:
    """A request that the dialect makes, and what answers it."""

    pattern: Pattern
    answer: Callable[[Asked, Values], Given]
    parameters: set[str] | None = None  # that it may have beside; None for any
    writes: bool = False
