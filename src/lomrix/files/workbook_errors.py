"""Cells of a workbook that the library leaves out: errors, and formulas never calculated."""

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
# Text of each error cell, by row and column from 0.
ErrorCells = dict[tuple[int, int], str]


def find_errors(path: Path, sheet: str) -> ErrorCells:
    """Return the error cells of a worksheet in an .xlsx or .ods file."""
    with zipfile.ZipFile(path) as book:
        if "content.xml" in book.namelist():
            content = book.read("content.xml")
            return _find_in_open_document(content, sheet) if IN_OPEN_DOCUMENT in content else {}
    content = read_part(path, sheet)
    return _find_in_worksheet(content) if b't="e"' in content else {}


def find_uncalculated(path: Path, sheet: str) -> list[tuple[int, str]]:
    """Return row (from 1) and name of each .xlsx cell whose formula was never calculated."""
    content = read_part(path, sheet)
    if b"<f" not in content:
        return []
    cells = []
    for attributes, inner in CELL.findall(content):
        if b"<f" in inner and not STORED.search(inner) and b't="str"' not in attributes:
            reference = REFERENCE.search(attributes)
            cells += [(int(reference[2]), (reference[1] + reference[2]).decode())] if reference else []
    return cells


def read_part(path: Path, sheet: str) -> bytes:
    """Return the XML of a worksheet of an .xlsx file; empty if there is none."""
    with zipfile.ZipFile(path) as book:
        part = find_part(book, sheet) if "xl/workbook.xml" in book.namelist() else ""
        return book.read(part) if part in book.namelist() else b""


def find_part(book: zipfile.ZipFile, sheet: str) -> str:
    """Return the part of an .xlsx file that holds a worksheet, by its relationships; empty if unknown."""
    from defusedxml import ElementTree

    workbook = ElementTree.fromstring(book.read("xl/workbook.xml"))
    relations = ElementTree.fromstring(book.read("xl/_rels/workbook.xml.rels"))
    targets = {element.get("Id"): element.get("Target", "") for element in relations}
    for element in workbook.iter():
        if element.tag.endswith("}sheet") and element.get("name") == sheet:
            return str(PurePosixPath("xl") / targets.get(element.get(RELATED), "")).removeprefix("/")
    return ""


def _find_in_worksheet(content: bytes) -> ErrorCells:
    result: ErrorCells = {}
    for attributes, inner in ERROR_CELL.findall(content):
        reference, value = REFERENCE.search(attributes), VALUE.search(inner)
        if reference and value:
            result[int(reference[2]) - 1, column_number(reference[1].decode()) - 1] = value[1].decode()
    return result


def column_number(name: str) -> int:
    """Return the number of a column from its letters: A is 1."""
    number = 0
    for letter in name:
        number = number * 26 + ord(letter) - ord("A") + 1
    return number


def _find_in_open_document(content: bytes, sheet: str) -> ErrorCells:
    from defusedxml import ElementTree

    result: ErrorCells = {}
    for table in _find_elements(ElementTree.fromstring(content), "table"):
        if _get_attribute(table, "name") != sheet:
            continue
        row = 0
        for line in _find_elements(table, "table-row"):
            column = 0
            for cell in line:
                if not cell.tag.endswith(("}table-cell", "}covered-table-cell")):
                    continue
                is_error = any(key.endswith("}value-type") and value == "error" for key, value in cell.attrib.items())
                if is_error:
                    result[row, column] = "".join(cell.itertext()).strip()
                column += int(_get_attribute(cell, "number-columns-repeated") or 1)
            row += int(_get_attribute(line, "number-rows-repeated") or 1)
    return result


def _find_elements(element: Any, name: str) -> list[Any]:
    return [child for child in element.iter() if child.tag.endswith(f"}}{name}")]


def _get_attribute(element: Any, name: str) -> str:
    return next((value for key, value in element.attrib.items() if key.endswith(f"}}{name}")), "")
