"""Racks as they are seen from their front and their rear, side by side on one sheet."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from concordex.figures.canvas import FAINT, INK, WRONG, plain, save, sheet

if TYPE_CHECKING:
    from matplotlib.axes import Axes

#: Inches: of a unit's height, of a face's width, between two racks, and around them; racks in one row.
_UNIT, _FACE, _BETWEEN, _AROUND, _IN_A_ROW = 0.17, 2.0, 0.75, 0.6, 6
#: Units where nobody knows how many a rack has.
_USUAL = 42
_FILLS = {
    "router": "#cfe3f7", "switch": "#d5efd9", "firewall": "#fbe0c8", "server": "#e6dcf5", "patch-panel": "#eceff1",
    "power": "#fff3bf",
}  # fmt: skip
_OTHER = "#f4f1ea"


class Standing(Protocol):
    """One rack, and what stands in it, as :class:`concordex.work.show.racks.Elevation` tells it."""

    @property
    def rack(self) -> Mapping[str, Any]:
        """The rack: ``rack``, ``site``, ``units``, ``used``, ``weight`` and so on."""
        ...

    @property
    def things(self) -> Sequence[Mapping[str, Any]]:
        """What stands in it."""
        ...


#: So many signs of a name have room in a face, and so many in all.
_SIGNS, _ALL_SIGNS = 26, 36


def draw(racks: Sequence[Standing], path: Path, title: str) -> None:
    """Draw racks into a file, :data:`_IN_A_ROW` of them in a row."""
    rows = [racks[at : at + _IN_A_ROW] for at in range(0, len(racks), _IN_A_ROW)]
    heights = [max(_height(one) for one in row) * _UNIT + 0.85 for row in rows]
    across = max(map(len, rows), default=1)
    width, height = across * (2 * _FACE + _BETWEEN) + _AROUND, sum(heights) + _AROUND
    with sheet(width, height, title) as (figure, axes):
        axes.set_xlim(0, width)
        axes.set_ylim(0, height)
        top = height - _AROUND
        for row, tall in zip(rows, heights, strict=True):
            for at, one in enumerate(row):
                _rack(axes, one, _AROUND + at * (2 * _FACE + _BETWEEN), top - tall + 0.15)
            top -= tall
        save(figure, path, title)


def _height(one: Standing) -> int:
    """The units that are drawn: those of the rack, and what stands above them."""
    units = int(one.rack["units"] or _USUAL)
    highest = max((int(thing["at"]) + int(thing["height"]) - 1 for thing in one.things), default=0)
    return max(units, min(highest, units + 6))


def _rack(axes: Axes, one: Standing, left: float, foot: float) -> None:
    from matplotlib.patches import Rectangle

    rack, units = one.rack, int(one.rack["units"] or _USUAL)
    tall = _height(one)
    for at, face in enumerate(("front", "rear")):
        axes.add_patch(
            Rectangle((left + at * _FACE, foot), _FACE, units * _UNIT, fill=False, edgecolor=INK, linewidth=1.2)
        )
        axes.text(left + (at + 0.5) * _FACE, foot + tall * _UNIT + 0.06, face, fontsize=8, ha="center", color=FAINT)
    for unit in range(1, units + 1):
        if unit == 1 or unit % 5 == 0 or unit == units:
            axes.text(
                left - 0.06, foot + (unit - 0.5) * _UNIT, str(unit), fontsize=6, ha="right", va="center", color=FAINT
            )
    facts = [f"{rack['used']} of {units} units"] + ([f"{rack['weight']:g} kg"] if rack["weight"] else [])
    facts += [f"{rack['power']:g} W"] if rack["power"] else []
    axes.text(left, foot + tall * _UNIT + 0.42, plain(rack["rack"], 40), fontsize=10, weight="bold", color=INK)
    axes.text(left, foot + tall * _UNIT + 0.24, ", ".join(facts), fontsize=8, color=INK)
    for thing, lane, lanes in _side_by_side(one.things):
        _thing(axes, thing, (left, foot), tall, lane / lanes, 1 / lanes)


def _side_by_side(things: Sequence[Mapping[str, Any]]) -> Iterator[tuple[Mapping[str, Any], int, int]]:
    """Things, each with its lane and how many there are: those that are told to stand in one place share it."""
    for at, thing in enumerate(things):
        mine = range(int(thing["at"]), int(thing["at"]) + max(1, int(thing["height"])))
        sharing = [
            number
            for number, other in enumerate(things)
            if other["at"] <= mine[-1] and int(other["at"]) + max(1, int(other["height"])) > mine[0]
            and (other["face"] == thing["face"] or None in (other["face"], thing["face"]) or bool(thing["wrong"]))
        ]  # fmt: skip
        yield thing, sharing.index(at), len(sharing)


def _thing(
    axes: Axes, thing: Mapping[str, Any], corner: tuple[float, float], tall: int, over: float, share: float
) -> None:
    """One thing, from ``over`` of its face on and that ``share`` of it wide."""
    from matplotlib.patches import Rectangle

    low, high = int(thing["at"]), max(1, int(thing["height"]))
    if low < 1 or low + high - 1 > tall:
        return  # it is named among what is wrong
    wrong = bool(thing["wrong"])
    face, own = thing["face"], 1 if thing["face"] == "rear" else 0
    for at in (0, 1):
        behind = at != own
        if behind and not thing["full_depth"]:
            continue
        left, foot = corner[0] + (at + over) * _FACE, corner[1] + (low - 1) * _UNIT
        box = axes.add_patch(Rectangle(
            (left + 0.04, foot + 0.015), _FACE * share - 0.08, high * _UNIT - 0.03,
            facecolor="none" if behind else _FILLS.get(thing["kind"], _OTHER), edgecolor=WRONG if wrong else INK,
            linewidth=1.4 if wrong else 0.6, linestyle="--" if wrong else "-", hatch="///" if behind else None,
        ))  # fmt: skip
        before = "back of " if behind else ""
        after = " (face?)" if face is None and not thing["full_depth"] else ""
        if share == 1:
            after = ("" if behind else f"  {thing['kind'] or ''}") + after
        after += f"  ! {', '.join(thing['wrong'])}" if wrong and not behind and share == 1 else " !" if wrong else ""
        room = _SIGNS if share == 1 else max(4, round(_ALL_SIGNS * share) - len(before + after))
        said = f"{before}{plain(thing['label'], room)}{after}"
        label = axes.text(
            left + 0.09, foot + high / 2 * _UNIT, said, fontsize=5.6, va="center",
            color=WRONG if wrong else INK, clip_on=True,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.4} if behind else None,
        )  # fmt: skip
        label.set_clip_path(box)  # however wide its signs are
