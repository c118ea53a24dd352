"""A sheet to draw on, and how it becomes a file; its texts are texts and nothing else."""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly
from concordex.landing import landing
from concordex.unseen import in_data

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: The files that a figure can be.
FORMS = ("svg", "png", "pdf")

#: What a file of each form says of itself by default, and need not.
_SILENT: dict[str, dict[str, None]] = {
    "svg": {"Date": None, "Creator": None}, "png": {"Software": None}, "pdf": {"Creator": None, "Producer": None},
}  # fmt: skip

#: Ink, and what is behind it; what is wrong, and what is only said.
INK, PAPER, WRONG, FAINT = "#1f2933", "#ffffff", "#b00020", "#6b7684"


def form_of(path: Path) -> str:
    """The form that a file's ending asks for."""
    ending = path.suffix.removeprefix(".").lower()
    if ending not in FORMS:
        raise CalledWrongly(f"{path}: a figure is {', '.join(FORMS)}, by the ending of its file")
    return ending


def plain(text: object, most: int = 60) -> str:
    """A name from outside as a figure shows it: no formula, no line break, no sign that turns it round, not endless."""
    shown = "".join(sign if sign.isprintable() else "·" for sign in in_data(str(text)))
    cut = shown if len(shown) <= most else f"{shown[: most - 1]}…"
    return cut.replace("$", r"\$")


@contextmanager
def sheet(width: float, height: float, title: str) -> Iterator[tuple[Figure, Axes]]:
    """A sheet of so many inches."""
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ImportError as error:
        raise CalledWrongly("figures need a further package", advice="pip install 'concordex[figures]'") from error
    figure = Figure(figsize=(width, height), facecolor=PAPER)
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_axis_off()
    figure.suptitle(plain(title, 120), x=0.02, y=1 - 0.12 / height, ha="left", va="top", fontsize=12, color=INK)
    yield figure, axes


def save(figure: Figure, path: Path, title: str) -> None:
    """Write a figure to a file, whole or not at all; texts stay texts, which can be searched and read aloud."""
    import matplotlib as mpl

    form, buffer = form_of(path), io.BytesIO()
    about = {"Title": plain(title, 200)} | _SILENT[form]
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "concordex", "font.family": "DejaVu Sans"}):
        figure.savefig(buffer, format=form, dpi=110, metadata=about)
    with landing(path) as landed:
        landed.write_bytes(buffer.getvalue())
