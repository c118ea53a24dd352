"""Charts of a report: bars, stacks, parts of a whole, lines over time; told by text and hatching beside colour."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from concordex.figures.canvas import FAINT, INK, PAPER, plain

if TYPE_CHECKING:
    import polars as pl
    from matplotlib.axes import Axes

#: Series, in this order: each by a colour that eyes of all kinds tell apart (Okabe and Ito 2008), and by a hatching.
_FILLS = ("#56b4e9", "#e69f00", "#d55e00", "#cccccc", "#009e73", "#0072b2", "#cc79a7", "#f0e442")
_HATCHES = ("", "//", "xx", "..", "\\\\", "++", "oo", "--")
_MARKS = ("o", "s", "^", "D", "v", "P", "X", "*")
#: No more names than these are in a chart.
_MOST = 25


def svg(sort: str, title: str, frame: pl.DataFrame) -> bytes:
    """A chart as a picture that needs nothing else."""
    import matplotlib as mpl
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    draw = {"bars": _bars, "stacks": _stacks, "parts": _parts, "lines": _lines}[sort]
    names = frame[:, 0].n_unique()
    height = 2.6 if sort == "lines" else 0.9 + 0.26 * min(names, _MOST)
    figure = Figure(figsize=(8.2, height), facecolor=PAPER, layout="constrained")
    FigureCanvasSVG(figure)
    axes = figure.add_subplot()
    draw(axes, frame)
    axes.set_title(plain(title, 90), loc="left", fontsize=10, color=INK)
    axes.spines[["top", "right"]].set_visible(False)
    axes.tick_params(labelsize=8, colors=INK)
    buffer = io.BytesIO()
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": title, "font.family": "DejaVu Sans"}):
        figure.savefig(buffer, format="svg", metadata={"Date": None, "Creator": None, "Title": plain(title, 90)})
    return buffer.getvalue()


def in_words(title: str, frame: pl.DataFrame) -> str:
    """The same for those who do not see it: the first names and their numbers."""
    rows = [f"{row[0]}: {', '.join(_told(frame.columns[1:], row[1:]))}" for row in frame.head(8).iter_rows()]
    more = f"; and {frame.height - 8} more" if frame.height > 8 else ""
    return f"{title}. {'; '.join(rows)}{more}"


def _told(names: Sequence[str], values: Sequence[Any]) -> list[str]:
    shown = [f"{value:g}" if isinstance(value, int | float) else str(value) for value in values]
    return shown if len(names) == 1 else [f"{name} {value}" for name, value in zip(names, shown, strict=True)]


def _names(frame: pl.DataFrame) -> list[str]:
    return [plain(name if name is not None else "(none)", 28) for name in frame[:, 0]]


def _bars(axes: Axes, frame: pl.DataFrame) -> None:
    frame = frame.head(_MOST)
    at, values = range(frame.height), frame[:, 1].to_list()
    axes.barh(at, values, color=_FILLS[0], edgecolor=INK, linewidth=0.5)
    for place, value in zip(at, values, strict=True):
        axes.text(value, place, f" {value:,}", va="center", fontsize=8, color=INK)
    _listed(axes, _names(frame))


def _stacks(axes: Axes, frame: pl.DataFrame) -> None:
    frame = frame.head(_MOST)
    begun = [0.0] * frame.height
    for number, name in enumerate(frame.columns[1:]):
        values = [float(value or 0) for value in frame[name]]
        axes.barh(
            range(frame.height), values, left=begun, label=plain(name), color=_FILLS[number % 8],
            hatch=_HATCHES[number % 8], edgecolor=INK, linewidth=0.4,
        )  # fmt: skip
        for place, (left, value) in enumerate(zip(begun, values, strict=True)):
            if value:
                axes.text(left + value / 2, place, f"{value:g}", va="center", ha="center", fontsize=7, color=INK,
                          bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.5, "alpha": 0.75})  # fmt: skip
        begun = [left + value for left, value in zip(begun, values, strict=True)]
    axes.legend(fontsize=7, ncols=4, loc="upper left", bbox_to_anchor=(0, -0.08), frameon=False)
    _listed(axes, _names(frame))


def _parts(axes: Axes, frame: pl.DataFrame) -> None:
    """Of each whole its parts, each with its name in it: ``whole``, ``part``, and how many."""
    whole, part, count = frame.columns
    names = frame[whole].unique(maintain_order=True).to_list()[:_MOST]
    for place, name in enumerate(names):
        mine = frame.filter(frame[whole] == name)
        total, left = float(mine[count].sum() or 1), 0.0
        for number, (called, value) in enumerate(mine.select(part, count).iter_rows()):
            share = value / total
            axes.barh(place, share, left=left, color=_FILLS[number % 8], hatch=_HATCHES[number % 8], edgecolor=INK,
                      linewidth=0.4)  # fmt: skip
            if share > 0.07:
                axes.text(left + share / 2, place, plain(f"{called or '?'} ({value})", 22), va="center", ha="center",
                          fontsize=7, color=INK,
                          bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.5, "alpha": 0.8})  # fmt: skip
            left += share
    axes.set_xlim(0, 1)
    axes.set_xticks([0, 0.25, 0.5, 0.75, 1], ["0", "25 %", "50 %", "75 %", "100 %"])
    _listed(axes, [plain(name, 28) for name in names])


def _lines(axes: Axes, frame: pl.DataFrame) -> None:
    at = range(frame.height)
    for number, name in enumerate(frame.columns[1:]):
        axes.plot(at, frame[name].to_list(), marker=_MARKS[number % 8], color=_FILLS[number % 8], markersize=4,
                  markeredgecolor=INK, markeredgewidth=0.4, label=plain(name))  # fmt: skip
    step = max(1, frame.height // 8)
    axes.set_xticks(list(at)[::step], _names(frame)[::step])
    axes.set_ylim(bottom=0)
    axes.grid(axis="y", color=FAINT, alpha=0.25)
    axes.legend(fontsize=7, ncols=3, loc="upper left", bbox_to_anchor=(0, -0.14), frameon=False)


def _listed(axes: Axes, names: Sequence[str]) -> None:
    axes.set_yticks(range(len(names)), names)
    axes.invert_yaxis()
