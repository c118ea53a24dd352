"""What the data taught, as one: it holds from one time to the next while the data stay alike.

Kept apart from the records, it makes their comparison a matter of each record's own surroundings: what
did not change, and has no neighbour that did, need not be looked at again.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from concordex.match.synonyms import Words
from concordex.match.weights import Weights

#: The fields whose words are learned.
WORDED = ("model", "site", "kind")


@dataclass(frozen=True)
class Learned:
    """What every level of agreement weighs, how words go together, and what is optional or wanders.

    words     of each of ``WORDED``
    prefixes  that some systems write before serials
    docks     makers (IEEE, OUI) of network cards that wander from device to device
    sighting  systems that hold several records of many devices
    """

    weights: Weights
    words: Mapping[str, Words]
    prefixes: Sequence[str]
    docks: Sequence[str]
    sighting: Sequence[str]

    def frames(self) -> dict[str, pl.DataFrame]:
        """The same as frames: ``weights``, ``words``, ``alike`` and ``habits``."""
        both = [self.words[field].frames(field) for field in WORDED]
        habits = [("prefix", text) for text in self.prefixes] + [("dock", text) for text in self.docks]
        habits += [("sights", text) for text in self.sighting]
        return {
            "weights": self.weights.frame(),
            "words": pl.concat([words for words, _ in both]),
            "alike": pl.concat([pairs for _, pairs in both]),
            "habits": pl.DataFrame(habits, schema={"habit": pl.String, "of": pl.String}, orient="row"),
        }

    @classmethod
    def of_frames(cls, frames: Mapping[str, pl.DataFrame]) -> Learned:
        """What :meth:`frames` made frames of."""
        habits = frames["habits"]
        return cls(
            weights=Weights.of_frame(frames["weights"]),
            words={field: Words.of_frames(field, frames["words"], frames["alike"]) for field in WORDED},
            prefixes=habits.filter(pl.col("habit") == "prefix")["of"].to_list(),
            docks=habits.filter(pl.col("habit") == "dock")["of"].to_list(),
            sighting=habits.filter(pl.col("habit") == "sights")["of"].to_list(),
        )


#: The frames that :meth:`Learned.frames` makes.
FRAMES = ("weights", "words", "alike", "habits")
