"""What happened to devices, and when they were used, along the hours of a week."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from concordex.figures.canvas import FAINT, INK, PAPER, plain, save

#: Each event by a mark of its own; devices in one picture.
_MARKS = ("o", "s", "^", "D", "v", "P", "X", "*", "<", ">")
_MOST = 60


def draw(
    events: Sequence[Mapping[str, Any]], used: Sequence[Mapping[str, Any]], span: tuple[datetime, datetime], path: Path,
    title: str,
) -> int:  # fmt: skip
    """Draw a line for each device: its use as a bar, its events as marks; how many are left out for want of room."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.dates import DateFormatter, DayLocator, date2num
    from matplotlib.figure import Figure

    names = list(dict.fromkeys([*(row["name"] for row in used), *(row["name"] for row in reversed(events))]))
    shown = sorted((name for name in names if name is not None), key=str)[:_MOST]
    at = {name: place for place, name in enumerate(shown)}
    figure = Figure(figsize=(11, 1.4 + 0.24 * max(1, len(shown))), facecolor=PAPER, layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.add_subplot()
    for row in used:
        if row["name"] in at:
            axes.barh(at[row["name"]], row["ended"] - row["begun"], left=row["begun"], height=0.5, color="#cfe3f7",
                      edgecolor=FAINT, linewidth=0.4)  # fmt: skip
    for number, kind in enumerate(sorted({str(row["event"]) for row in events})):
        mine = [row for row in events if str(row["event"]) == kind and row["name"] in at]
        axes.plot([row["at"] for row in mine], [at[row["name"]] for row in mine], linestyle="none", color=INK,
                  marker=_MARKS[number % len(_MARKS)], markersize=4, markerfacecolor="white",
                  label=plain(kind))  # fmt: skip
    axes.set_yticks(range(len(shown)), [plain(name, 28) for name in shown])
    axes.invert_yaxis()
    axes.set_xlim(*(float(date2num(moment)) for moment in span))  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(DayLocator())  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(DateFormatter("%a %d %b"))  # type: ignore[no-untyped-call]
    axes.tick_params(labelsize=7, colors=INK)
    axes.grid(axis="x", color=FAINT, alpha=0.25)
    axes.spines[["top", "right"]].set_visible(False)
    axes.set_title(plain(title, 100), loc="left", fontsize=10, color=INK)
    axes.legend(fontsize=7, ncols=6, loc="upper left", bbox_to_anchor=(0, -0.06), frameon=False)
    save(figure, path, title)
    return len(names) - len(shown)
