"""What is written for other programs does nothing there: no formula runs, no link leads away, no image is fetched."""

from __future__ import annotations

import re
from collections.abc import Sequence
from io import BytesIO

import polars as pl

from concordex.errors import CalledWrongly

#: How a cell of a text file begins that a spreadsheet takes for a formula, or that looks as if we had seen to that.
_FORMULA = r"^'*[=+\-@\t\r]"
_MARKED = r"^'('*[=+\-@\t\r])"
#: Rows of a sheet, with its heading; so many are measured for the widths of columns, and none is drawn wider.
_MOST_ROWS, _MEASURED, _WIDEST = 1_048_576, 1_000, 60
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
    return re.sub(_MARKED, r"\1", text) if text.startswith("'") else text


def to_workbook(frame: pl.DataFrame, buffer: BytesIO) -> None:
    """Write ``frame`` as a workbook in which every text is a text, a row at a time: memory stays flat.

    Raises CalledWrongly where a workbook has no room for it (ECMA-376, part 1, section 18.3.1.73 and its limits).
    """
    try:
        import xlsxwriter
    except ImportError as error:
        raise CalledWrongly("xlsx needs a further package", advice="pip install 'concordex[xlsx]'") from error
    if frame.height >= _MOST_ROWS:
        raise CalledWrongly(
            f"{frame.height:,} rows are more than a workbook holds ({_MOST_ROWS - 1:,})", advice="csv or parquet"
        )
    options = {"strings_to_formulas": False, "strings_to_urls": False, "constant_memory": True,
               "remove_timezone": True, "default_date_format": "yyyy-mm-dd hh:mm:ss"}  # fmt: skip
    with xlsxwriter.Workbook(buffer, options) as book:
        sheet = book.add_worksheet()
        sheet.freeze_panes(1, 0)
        for at, width in enumerate(_widths(frame)):
            sheet.set_column(at, at, width)
        sheet.write_row(0, 0, frame.columns, book.add_format({"bold": True}))
        for number, row in enumerate(frame.iter_rows(), start=1):
            for at, value in enumerate(row):
                if isinstance(value, str):
                    if sheet.write_string(number, at, value):
                        raise CalledWrongly(
                            f"{frame.columns[at]} of row {number + 1:,} has {len(value):,} characters, more"
                            " than a cell of a workbook holds",
                            advice="csv or parquet",
                        )
                elif value is not None:
                    sheet.write(number, at, value)


def _widths(frame: pl.DataFrame) -> list[int]:
    """How wide the columns are drawn, as the first rows need it."""
    texts = frame.head(_MEASURED).cast(pl.String, strict=False)
    needed = texts.select(pl.all().str.len_chars().max()).row(0) if frame.width else ()
    return [min(max(len(name), size or 0) + 2, _WIDEST) for name, size in zip(frame.columns, needed, strict=True)]


def in_markdown(text: str) -> str:
    """``text`` as Markdown shows it and does not obey it; an address in it is no link."""
    return _ACTS.sub(r"\\\g<0>", " ".join(text.splitlines()))
