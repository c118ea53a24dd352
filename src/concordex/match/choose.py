"""How a field's value is chosen among the records of an entry: what a workspace says of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

By = Literal["order", "freshest", "agreed", "specific", "joined"]


@dataclass(frozen=True, kw_only=True)
class Choose:
    """How a field's value is chosen among an entry's records.

    order     of the system that is trusted most; of two records of one system, the one seen last
    freshest  of the record that was seen last
    agreed    what most systems say
    specific  what says most: the longest, and never ``other``
    joined    all values of a list together, or of a text with commas between them
    """

    by: By = "order"
    order: Sequence[str] = ()
    kinds: Mapping[str, Choose] = field(default_factory=dict)
