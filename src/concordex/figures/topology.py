"""How devices are linked, as a tree that is read from left to right: no lines through names, no knot in the middle."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.figures.canvas import FAINT, INK, WRONG, plain, save, sheet
from concordex.insight.cabling import DOWN

if TYPE_CHECKING:
    from matplotlib.axes import Axes

#: Inches: of a row, of a level, around all.
_ROW, _LEVEL, _AROUND = 0.21, 2.5, 0.8
#: So many leaves of one device stand below each other; more of them in so many columns, each with a trunk of its own.
_FEW, _ABREAST, _COLUMN = 6, 3, 0.72
#: How each kind is marked, and how near to the root it stands: by shape, beside its name.
_MARKS = {
    "router": ("o", 0), "firewall": ("D", 1), "wireless-controller": ("p", 2), "load-balancer": ("h", 2),
    "switch": ("s", 3), "access-point": ("^", 5), "server": ("P", 6),
}  # fmt: skip
_OTHER = (".", 7)

#: Megabits in a second from which on a line is thick.
_FAST = 10_000

#: A cable between two devices: both, by name, what is known of each end, and of the cable.
Cable = Mapping[str, Any]


@dataclass
class _Place:
    """A device, where it stands, and what hangs on it."""

    name: str
    kind: str | None = None
    site: str | None = None
    level: int = 0
    x: float = 0.0
    y: float = 0.0
    trunk: tuple[float, float] | None = None  # where the line to it turns down, and at which height it comes there
    below: list[str] = field(default_factory=list)


def draw(cables: Sequence[Cable], path: Path, title: str) -> None:
    """Draw cables into a file: devices by their distance from the one with the most links, kind by kind."""
    places, tree = _places(cables)
    furthest = max((place.x for place in places.values()), default=0)
    rows = max((place.y for place in places.values()), default=0) + 1
    width, height = max(9.0, _AROUND + (furthest + 0.8) * _LEVEL), 2 * _AROUND + rows * _ROW
    with sheet(width, height, title) as (figure, axes):
        axes.set_xlim(0, width)
        axes.set_ylim(height, 0)
        at = {name: (_AROUND / 2 + place.x * _LEVEL, _AROUND + place.y * _ROW) for name, place in places.items()}
        for cable in cables:
            near, far = sorted((cable["near"], cable["far"]), key=lambda name: places[name].level)
            if frozenset((near, far)) in tree:
                _branch(axes, _style(cable, INK), places[far], at[near], at[far])
            else:
                _bow(axes, _style(cable, FAINT), at[near], at[far])
        for name, place in places.items():
            _mark(axes, place, *at[name])
        _legend(axes, {place.kind for place in places.values()}, height)
        save(figure, path, title)


def _rank(kind: str | None) -> int:
    return _MARKS.get(kind or "", _OTHER)[1]


def _places(cables: Sequence[Cable]) -> tuple[dict[str, _Place], set[frozenset[str]]]:
    """Every device at its place, and the pairs that make the tree."""
    places: dict[str, _Place] = {}
    beside: dict[str, dict[str, None]] = {}
    for cable in cables:
        for here, there in (("near", "far"), ("far", "near")):
            name = cable[here]
            places.setdefault(name, _Place(name, cable.get(f"{here}.kind"), cable.get(f"{here}.site")))
            beside.setdefault(name, {})[cable[there]] = None
    tree: set[frozenset[str]] = set()
    row = 0.0
    seen = set[str]()
    for head in sorted(places, key=lambda name: (-len(beside[name]), _rank(places[name].kind), name)):
        if head not in seen:
            _grow(head, places, beside, seen, tree)
            row = _lay(head, places, row) + 1
    return places, tree


def _grow(
    head: str, places: Mapping[str, _Place], beside: Mapping[str, Mapping[str, None]], seen: set[str],
    tree: set[frozenset[str]],
) -> None:  # fmt: skip
    """Hang on a device all that can be reached from it, the nearest to it first."""
    seen.add(head)
    left = deque([head])
    while left:
        name = left.popleft()
        for other in sorted(beside[name], key=lambda n: (_rank(places[n].kind), n)):
            if other not in seen:
                seen.add(other)
                places[other].level = places[name].level + 1
                places[name].below.append(other)
                tree.add(frozenset((name, other)))
                left.append(other)


def _lay(head: str, places: Mapping[str, _Place], row: float) -> float:
    """Give a device and all below it their rows, from ``row`` on; the first row after them."""
    place = places[head]
    place.x, place.y = place.level, row
    begun = row
    leaves = [name for name in place.below if not places[name].below]
    for name in place.below:
        if places[name].below:
            row = _lay(name, places, row)
    if len(leaves) <= _FEW:
        for at, name in enumerate(leaves):
            places[name].x, places[name].y = places[name].level, row + at
        return max(row + len(leaves), begun + 1)
    deep = -(-len(leaves) // _ABREAST)
    for at, name in enumerate(leaves):
        leaf = places[name]
        leaf.x, leaf.y = leaf.level + (at // deep) * _COLUMN, row + 0.9 + at % deep
        leaf.trunk = (leaf.x - 0.1, row + 0.2)
    return row + 0.9 + deep


def _style(cable: Cable, color: str) -> dict[str, Any]:
    down = (cable.get("status") or "").lower() in DOWN
    fast = (cable.get("speed") or 0) >= _FAST
    return {
        "color": WRONG if down else color, "linestyle": (0, (2, 2)) if down else "-", "linewidth": 1.5 if fast else 0.8,
        "zorder": 2 if down else 1,
    }  # fmt: skip


_Point = tuple[float, float]


def _branch(axes: Axes, style: Mapping[str, Any], place: _Place, here: _Point, there: _Point) -> None:
    """A line down from a device and over to one that hangs on it."""
    (x, y), (u, v) = here, there
    trunk: dict[str, Any] = {"color": INK, "linewidth": 0.8, "zorder": 1}
    turn = x
    if place.trunk is None:
        axes.plot([x, x], [y, v], **trunk)
    else:
        turn, high = _AROUND / 2 + place.trunk[0] * _LEVEL, _AROUND + place.trunk[1] * _ROW
        axes.plot([x, x, turn, turn], [y, high, high, v], **trunk)
    axes.plot([turn, u], [v, v], **style)  # what is told of the link stands on what is its own alone


def _bow(axes: Axes, style: Mapping[str, Any], here: _Point, there: _Point) -> None:
    """A further way between two: a bow, so that it is not taken for a branch."""
    bow = min(0.35 + abs(there[1] - here[1]) * 0.05, 0.6)
    how = {"arrowstyle": "-", "connectionstyle": f"arc3,rad={bow}", **style}
    axes.annotate("", there, here, arrowprops=how)


def _mark(axes: Axes, place: _Place, x: float, y: float) -> None:
    shape, _ = _MARKS.get(place.kind or "", _OTHER)
    axes.plot([x], [y], marker=shape, markersize=6, color=INK, markerfacecolor="white", zorder=3)
    axes.text(
        x + 0.1, y, plain(place.name, 30), fontsize=7, va="center", color=INK, zorder=4,
        bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.6},
    )  # fmt: skip


def _legend(axes: Axes, kinds: set[str | None], height: float) -> None:
    x = _AROUND / 2
    for kind in sorted(kinds, key=lambda kind: (_rank(kind), kind or "")):
        shape, _ = _MARKS.get(kind or "", _OTHER)
        axes.plot([x], [height - 0.25], marker=shape, markersize=6, color=INK, markerfacecolor="white")
        axes.text(x + 0.1, height - 0.25, plain(kind or "of no known kind"), fontsize=7, va="center", color=INK)
        x += 0.5 + 0.075 * len(kind or "of no known kind")
    axes.text(
        x, height - 0.25, "thick: 10 Gbit/s and more; dotted: down; bow: a further way", fontsize=7, va="center",
        color=FAINT,
    )  # fmt: skip
