"""The ids that came: which are new, in little room, however many there are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import polars as pl

if TYPE_CHECKING:  # slow to come, and needed of many alone
    import numpy as np
    import numpy.typing as npt

#: How many are kept as texts before they are packed: at least, and at most.
_FEW, _MANY = 100_000, 400_000


class SeenIds:
    """A set of texts; of most only 128 bits are kept, by which no two are ever likely to be taken for one."""

    def __init__(self) -> None:
        self._late: set[str] = set()
        self._old: npt.NDArray[np.uint64] | None = None  # two rows, sorted by the first

    def __len__(self) -> int:
        return len(self._late) + self._packed

    @property
    def _packed(self) -> int:
        return 0 if self._old is None else self._old.shape[1]

    def new(self, ids: Sequence[str]) -> list[int] | None:
        """The places of those that did not come before, and take note of them; None: all."""
        fresh, met = set(ids), self._met(ids)
        if len(fresh) == len(ids) and met is None and self._late.isdisjoint(fresh):
            self._late |= fresh
            places = None
        else:
            places = []
            for place, number in enumerate(ids):
                if number not in self._late and (met is None or not met[place]):
                    self._late.add(number)
                    places.append(place)
        if len(self._late) > min(max(_FEW, self._packed // 4), _MANY):
            self._pack()
        return places

    def _met(self, ids: Sequence[str]) -> npt.NDArray[np.bool_] | None:
        """Which of them are among those that are packed; None: none."""
        old = self._old
        if old is None or not old.shape[1] or not ids:
            return None
        import numpy as np

        asked = _digests(ids)
        at = np.minimum(np.searchsorted(old[0], asked[0]), old.shape[1] - 1)
        met: npt.NDArray[np.bool_] = old[0][at] == asked[0]
        if not met.any():
            return None
        for place in np.flatnonzero(met):  # of one that is met, also those that have the same first half
            end = np.searchsorted(old[0], asked[0, place], side="right")
            met[place] = asked[1, place] in old[1, at[place] : end]
        return met

    def _pack(self) -> None:
        import numpy as np

        late = _digests(list(self._late))
        late = late[:, np.argsort(late[0])]
        old = self._old
        self._old = late if old is None else np.insert(old, np.searchsorted(old[0], late[0]), late, axis=1)
        self._late = set()


def _digests(ids: Sequence[str]) -> npt.NDArray[np.uint64]:
    import numpy as np

    texts = pl.Series(ids, dtype=pl.String)
    return np.stack([texts.hash(seed=11).to_numpy(), texts.hash(seed=29).to_numpy()])
