"""What a workbook does not give: cells whose values its program has lost, and sheets that nobody asked for."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from html import unescape
from typing import NamedTuple

#: A cell, its attributes, and its value (ECMA-376, part 1, 18.3.1.4); a prefix is some writers' own.
_CELL = re.compile(rb"<(?:\w+:)?c\s([^>]*[^/])>(.*?)</(?:\w+:)?c>", re.DOTALL)
_VALUE = re.compile(rb"<(?:\w+:)?v>([^<]*)</(?:\w+:)?v>")
_ATTRIBUTE = re.compile(r'([\w:]+)="([^"]*)"')
#: Beyond this a number has more digits than the 15 that a spreadsheet keeps.
_LONGEST = 1e15


class LostCell(NamedTuple):
    """A cell whose value is lost: where, what is wrong with it, and whether it is empty or another number instead."""

    at: str
    what: str
    empty: bool

    def __str__(self) -> str:
        """As a sentence."""
        return f"{self.at} {self.what}"


def lost_cells(content: bytes, sheet: str | None) -> Iterator[LostCell]:
    """What is wrong with cells of a sheet, by name or the first."""
    if not zipfile.is_zipfile(io.BytesIO(content)):  # an older workbook, which is no package of parts
        return
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        cells = (found for part in _parts_of(archive, sheet) for found in _CELL.finditer(archive.read(part)))
        for attributes, inside in (found.groups() for found in cells):
            about = dict(_ATTRIBUTE.findall(attributes.decode("utf-8", "replace")))
            value = _VALUE.search(inside)
            said = value[1].decode("utf-8", "replace") if value else ""
            kind, at = about.get("t", "n"), about.get("r", "a cell")
            if kind == "e":
                yield LostCell(at, f"holds an error: {unescape(said)}", empty=True)
            elif kind == "n" and said and _is_too_long(said):
                yield LostCell(
                    at, "is a number of more than 15 digits, of which a spreadsheet keeps 15: make the cell a text",
                    empty=False,
                )  # fmt: skip


def sheets_of(content: bytes) -> list[str]:
    """The names of a workbook's sheets in their order, hidden ones among them; none where they cannot be told."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            return [unescape(one["name"]) for one in _elements(archive, "xl/workbook.xml", "sheet")]
    except (zipfile.BadZipFile, KeyError):
        return []


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
