"""What is written for other programs does nothing there: no formula runs, no link leads away, no image is fetched."""

from __future__ import annotations

import re
from collections.abc import Sequence
from io import BytesIO
from typing import Any

import polars as pl

from concordex.errors import CalledWrongly

#: How a cell of a text file begins that a spreadsheet takes for a formula, or that looks as if we had seen to that.
_FORMULA = r"^'*[=+\-@\t\r]"
_MARKED = r"^'('*[=+\-@\t\r])"
#: What acts in Markdown (CommonMark 0.31) or in the HTML that it may hold.
_ACTS = re.compile(r"[\\`*_\[\]<>|~@]|&(?=#?\w+;)|(?<=www)\.|(?<=[A-Za-z]):(?=//)", re.IGNORECASE)


def as_text(frame: pl.DataFrame, names: Sequence[str] | None = None) -> pl.DataFrame:
    """``frame`` for a text file: a text that a spreadsheet would take for a formula gets an apostrophe before it."""
    chosen = [n for n, kind in frame.schema.items() if kind == pl.String and (names is None or n in names)]
    starts = pl.col(chosen).str.contains(_FORMULA)
    return frame.with_columns(pl.when(starts).then("'" + pl.col(chosen)).otherwise(pl.col(chosen)).name.keep())


def from_text(frame: pl.DataFrame, names: Sequence[str]) -> pl.DataFrame:
    """``frame`` as it was before ``as_text``."""
    chosen = [name for name, kind in frame.schema.items() if kind == pl.String and name in names]
    return frame.with_columns(pl.col(chosen).str.replace(_MARKED, "$1"))


def cell_from_text(text: str) -> str:
    """One cell as it was before ``as_text``."""
    return re.sub(_MARKED, r"\1", text)


def to_workbook(frame: pl.DataFrame, buffer: BytesIO, **how: Any) -> None:
    """Write ``frame`` as a workbook in which every text is a text."""
    try:
        import xlsxwriter
    except ImportError as error:
        raise CalledWrongly("xlsx needs a further package", advice="pip install 'concordex[xlsx]'") from error
    options = {"strings_to_formulas": False, "strings_to_urls": False, "in_memory": True}
    with xlsxwriter.Workbook(buffer, options) as book:
        frame.write_excel(book, **how)


def in_markdown(text: str) -> str:
    """``text`` as Markdown shows it and does not obey it; an address in it is no link."""
    return _ACTS.sub(r"\\\g<0>", " ".join(text.splitlines()))
