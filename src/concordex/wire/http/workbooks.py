"""What stands in a workbook, and what it does not give: values that its program has lost, other sheets."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from html import unescape
from typing import Any, NamedTuple

from concordex.errors import BadAnswer

#: A cell, its attributes, and its value (ECMA-376, part 1, 18.3.1.4); a prefix is some writers' own.
_CELL = re.compile(rb"<(?:\w+:)?c\s([^>]*[^/])>(.*?)</(?:\w+:)?c>", re.DOTALL)
_VALUE = re.compile(rb"<(?:\w+:)?v>([^<]*)</(?:\w+:)?v>")
_ATTRIBUTE = re.compile(r'([\w:]+)="([^"]*)"')
#: Beyond this a number has more digits than the 15 that a spreadsheet keeps.
_LONGEST = 1e15


def rows_in(content: bytes, sheet: str | None) -> list[tuple[int, dict[str, Any]]]:
    """The rows below the heading of a sheet, by name or the first that shows, each with its number.

    Rows of nothing count, and are left out.  Raises BadAnswer.
    """
    try:
        import fastexcel
    except ImportError as error:
        raise BadAnswer(
            "is a workbook, which needs a further package", advice="pip install 'concordex[xlsx]'"
        ) from error
    try:
        sheet = _meant(content, sheet)
        read = fastexcel.read_excel(content).load_sheet(sheet if sheet is not None else 0, dtypes="string")
    except fastexcel.FastExcelError as error:
        raise BadAnswer("is not a readable workbook", why=str(error).split("\n")[0]) from error
    rows = enumerate(read.to_polars().iter_rows(named=True), start=_first_row(content, sheet) + 1)
    return [(at, row) for at, row in rows if any(value is not None for value in row.values())]


def _first_row(content: bytes, sheet: str | None) -> int:
    """The number of the first row that holds something: what stands above it is not read."""
    cell = next((about for about, inside in _cells(content, sheet) if inside), {})
    number = re.search(r"\d+$", cell.get("r", ""))
    return int(number[0]) if number else 1


class LostCell(NamedTuple):
    """A cell whose value is lost: where, what is wrong with it, and whether it is empty or another number instead."""

    at: str
    what: str
    empty: bool

    def __str__(self) -> str:
        """As a sentence."""
        return f"{self.at} {self.what}"


def lost_cells(content: bytes, sheet: str | None) -> Iterator[LostCell]:
    """What is wrong with cells of a sheet, by name or the first that shows."""
    for about, said in _cells(content, sheet):
        kind, at = about.get("t", "n"), about.get("r", "a cell")
        if kind == "e":
            yield LostCell(at, f"holds an error: {unescape(said)}", empty=True)
        elif kind == "n" and said and _is_too_long(said):
            yield LostCell(
                at, "is a number of more than 15 digits, of which a spreadsheet keeps 15: make the cell a text",
                empty=False,
            )  # fmt: skip


def _cells(content: bytes, sheet: str | None) -> Iterator[tuple[dict[str, str], str]]:
    """The attributes of each cell that holds something, and its value; none of an older workbook."""
    if not zipfile.is_zipfile(io.BytesIO(content)):  # which is no package of parts
        return
    sheet = _meant(content, sheet)
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        cells = (found for part in _parts_of(archive, sheet) for found in _CELL.finditer(archive.read(part)))
        for attributes, inside in (found.groups() for found in cells):
            value = _VALUE.search(inside)
            said = value[1].decode("utf-8", "replace") if value else ""
            yield dict(_ATTRIBUTE.findall(attributes.decode("utf-8", "replace"))), said or ("-" if inside else "")


def sheets_of(content: bytes) -> list[str]:
    """The names of the sheets that a workbook shows, in their order; none where they cannot be told."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            every = _elements(archive, "xl/workbook.xml", "sheet")
            return [unescape(one["name"]) for one in every if one.get("state", "visible") == "visible"]
    except (zipfile.BadZipFile, KeyError):
        return []


def _meant(content: bytes, sheet: str | None) -> str | None:
    """The sheet that is meant where none is named: the first that shows."""
    return sheet if sheet is not None else next(iter(sheets_of(content)), None)


def _is_too_long(said: str) -> bool:
    try:
        return abs(float(said)) >= _LONGEST
    except ValueError:
        return False


def _parts_of(archive: zipfile.ZipFile, sheet: str | None) -> list[str]:
    """The part of the package that holds a sheet, as the workbook's relationships say; else all that hold one."""
    every = [name for name in archive.namelist() if re.fullmatch(r"xl/worksheets/[^/]+\.xml", name)]
    try:
        sheets = _elements(archive, "xl/workbook.xml", "sheet")
        meant = next((one for one in sheets if sheet is None or unescape(one["name"]) == sheet), sheets[0])
        parts = _elements(archive, "xl/_rels/workbook.xml.rels", "Relationship")
        number = next(value for name, value in meant.items() if name.endswith(":id"))
        target = {part["Id"]: part["Target"] for part in parts}[number]
    except (KeyError, IndexError, StopIteration):
        return every
    mine = target.removeprefix("/") if target.startswith("/") else f"xl/{target}"
    return [mine] if mine in archive.namelist() else every


def _elements(archive: zipfile.ZipFile, part: str, called: str) -> list[dict[str, str]]:
    """The attributes of the elements of that name in a part."""
    text = archive.read(part).decode("utf-8", "replace")
    return [dict(_ATTRIBUTE.findall(said)) for said in re.findall(rf"<(?:\w+:)?{called}\s([^>]*)>", text)]
