"""How far something is, told as it goes on."""

from __future__ import annotations

from collections.abc import Callable

#: What is being done, how many are done, and of how many; none where nobody knows.
Told = Callable[[str, int, int | None], None]
