"""People's standing decisions, as the core needs them: obeyed always, and told where they contradict each other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

Pair = tuple[str, str]


@dataclass(frozen=True, kw_only=True)
class Rulings:
    """What was ruled of records, each written ``system/record_id``.

    ``values`` says for a record's device which value a field has; the last ruling on it counts.
    """

    same: Sequence[Pair] = ()
    apart: Sequence[Pair] = ()
    values: Sequence[tuple[str, str, str]] = ()

    @property
    def named(self) -> set[str]:
        """Every record that a ruling names."""
        return {ref for pair in (*self.same, *self.apart) for ref in pair} | {ref for ref, _, _ in self.values}


@dataclass(frozen=True)
class Obeyed:
    """Rulings as pairs of rows, and what could not be obeyed with the reason."""

    same: list[tuple[int, int]]
    apart: list[tuple[int, int]]
    #: Pairs of records ruled the same that other rulings keep apart.
    contradicted: list[Pair]


def obey(rulings: Rulings, rows: Mapping[str, int]) -> Obeyed:
    """The rulings on records that are there; where ``same`` would join what is ``apart``, ``apart`` holds."""
    apart = [(rows[a], rows[b]) for a, b in rulings.apart if a in rows and b in rows]
    parent: dict[int, int] = {}
    parted = {row for pair in apart for row in pair}  # and the roots of what holds them
    same: list[tuple[int, int]] = []
    contradicted: list[Pair] = []

    def root(row: int) -> int:
        while parent.get(row, row) != row:
            row = parent[row]
        return row

    for a, b in rulings.same:
        if a not in rows or b not in rows:
            continue
        one, other = root(rows[a]), root(rows[b])
        if {one, other} & parted and any({root(x), root(y)} == {one, other} for x, y in apart):
            contradicted.append((a, b))
            continue
        parent[max(one, other)] = min(one, other)
        if {one, other} & parted:
            parted.add(min(one, other))
        same.append((rows[a], rows[b]))
    return Obeyed(same, apart, contradicted)
