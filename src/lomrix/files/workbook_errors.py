"""Cells of a workbook that the reader of sheets leaves out, and we do not: errors, and formulas never calculated."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path, PurePosixPath
from typing import Any

RELATED = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
ERROR_CELL = re.compile(rb'<c\s([^>]*\bt="e"[^>]*)>(.*?)</c>', re.DOTALL)
REFERENCE = re.compile(rb'\br="([A-Z]+)(\d+)"')
VALUE = re.compile(rb"<v>([^<]*)</v>")
CELL = re.compile(rb"<c\s([^>]*[^/>])>(.*?)</c>", re.DOTALL)
STORED = re.compile(rb"<v(?:\s[^>]*)?>[^<]|<is>")
IN_OPEN_DOCUMENT = b'value-type="error"'
# By row and column, counted from 0, what stands there.
ErrorCells = dict[tuple[int, int], str]


def error_cells(path: Path, sheet: str) -> ErrorCells:
    """The cells of a sheet that hold an error.

    Parameters
    ----------
    path
        An .xlsx or .ods file that can be read.
    sheet
        The sheet's name.
    """
    with zipfile.ZipFile(path) as book:
        if "content.xml" in book.namelist():
            content = book.read("content.xml")
            return _of_open_document(content, sheet) if IN_OPEN_DOCUMENT in content else {}
    content = content_of_sheet(path, sheet)
    return _of_sheet(content) if b't="e"' in content else {}


def formulas_without_value(path: Path, sheet: str) -> list[tuple[int, str]]:
    """Row, counted from 1, and name of each cell of an .xlsx sheet whose formula no program has calculated yet."""
    content = content_of_sheet(path, sheet)
    if b"<f" not in content:
        return []
    found = []
    for attributes, inner in CELL.findall(content):
        if b"<f" in inner and not STORED.search(inner) and b't="str"' not in attributes:
            place = REFERENCE.search(attributes)
            found += [(int(place[2]), (place[1] + place[2]).decode())] if place else []
    return found


def content_of_sheet(path: Path, sheet: str) -> bytes:
    """The text of a sheet of an .xlsx file; empty where there is none."""
    with zipfile.ZipFile(path) as book:
        part = part_of_sheet(book, sheet) if "xl/workbook.xml" in book.namelist() else ""
        return book.read(part) if part in book.namelist() else b""


def part_of_sheet(book: zipfile.ZipFile, sheet: str) -> str:
    """The part of an .xlsx file that holds a sheet, as its relationships tell; empty where they do not."""
    from defusedxml import ElementTree

    workbook = ElementTree.fromstring(book.read("xl/workbook.xml"))
    relations = ElementTree.fromstring(book.read("xl/_rels/workbook.xml.rels"))
    targets = {one.get("Id"): one.get("Target", "") for one in relations}
    for one in workbook.iter():
        if one.tag.endswith("}sheet") and one.get("name") == sheet:
            return str(PurePosixPath("xl") / targets.get(one.get(RELATED), "")).removeprefix("/")
    return ""


def _of_sheet(content: bytes) -> ErrorCells:
    found: ErrorCells = {}
    for attributes, inner in ERROR_CELL.findall(content):
        place, value = REFERENCE.search(attributes), VALUE.search(inner)
        if place and value:
            found[int(place[2]) - 1, column_number(place[1].decode()) - 1] = value[1].decode()
    return found


def column_number(name: str) -> int:
    """The number of a column that has letters for a name: A is 1."""
    number = 0
    for letter in name:
        number = number * 26 + ord(letter) - ord("A") + 1
    return number


def _of_open_document(content: bytes, sheet: str) -> ErrorCells:
    from defusedxml import ElementTree

    found: ErrorCells = {}
    for table in _named(ElementTree.fromstring(content), "table"):
        if _said(table, "name") != sheet:
            continue
        row = 0
        for line in _named(table, "table-row"):
            column = 0
            for cell in line:
                if not cell.tag.endswith(("}table-cell", "}covered-table-cell")):
                    continue
                is_error = any(key.endswith("}value-type") and value == "error" for key, value in cell.attrib.items())
                if is_error:
                    found[row, column] = "".join(cell.itertext()).strip()
                column += int(_said(cell, "number-columns-repeated") or 1)
            row += int(_said(line, "number-rows-repeated") or 1)
    return found


def _named(element: Any, name: str) -> list[Any]:
    return [one for one in element.iter() if one.tag.endswith(f"}}{name}")]


def _said(element: Any, name: str) -> str:
    return next((value for key, value in element.attrib.items() if key.endswith(f"}}{name}")), "")
