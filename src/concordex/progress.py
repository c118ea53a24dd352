"""How far something is, told as it goes on."""

from __future__ import annotations

from collections.abc import Callable

#: How many are done, and of how many; none where nobody knows.
Counted = Callable[[int, int | None], None]

#: The same, and what is being done.
Advance = Callable[[str, int, int | None], None]
