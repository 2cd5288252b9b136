"""What lines tell that cells do not: quotation marks left open, rows swallowed, blank lines, footers."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.table.notes import Note, counted, plural
from lomrix.files.header_rows import FOOTER_ROWS, footer_length, footer_note
from lomrix.files.text_layout import Layout

MOST_SHOWN = 5
OPEN = "A quotation mark is left open in {}, or closed where the cell goes on."
TODO = "Close it, take it out, or write it twice inside a cell, in a copy of the file."


@dataclass(frozen=True)
class Body:
    """A text up to its footer.

    Parameters
    ----------
    content
        Its bytes.
    encoding
        Of the bytes.
    note
        Which rows were passed over.
    """

    content: bytes
    encoding: str
    note: Note


def body_without_footer(path: Path, layout: Layout, skip_last: str) -> Body:
    """Find the end of the data among the lines of a text."""
    content, encoding = path.read_bytes(), layout.encoding
    if encoding.lower().startswith(("utf-16", "utf_16", "utf-32", "utf_32")):
        content, encoding = content.decode(encoding).encode(), "utf-8"
    wanted = int(skip_last) if skip_last.isdigit() else FOOTER_ROWS
    # Blank lines may stand between those that count.
    at = len(content)
    for _ in range(4 * wanted + FOOTER_ROWS):
        if not at:
            break
        at = max(content.rfind(b"\n", 0, at), 0)
    lines = content[at:].splitlines(keepends=True)
    texts = [line.decode(encoding, "replace").rstrip("\r\n") for line in lines]
    rows = list(csv.reader(texts, delimiter=layout.delimiter))
    # A quoted line break among the last lines would make rows and lines differ.
    rows = rows if len(rows) == len(lines) else [[text.strip()] for text in texts]
    count = footer_length(rows, skip_last)
    kept, left = len(lines) - count, rows[len(rows) - count :]
    number = content.count(b"\n", 0, at) + kept + 1
    end = max(at + sum(map(len, lines[:kept])), start_of_data(content, layout.lines_above))
    return Body(content[:end], encoding, footer_note(left, number, skip_last))


def start_of_data(content: bytes, lines: int) -> int:
    """Where the line after so many lines begins."""
    at = 0
    for _ in range(lines):
        at = content.find(b"\n", at) + 1 or len(content)
    return at


def require_closed_quotes(path: Path, layout: Layout) -> None:
    """Stop where a quotation mark is left open, which would make the rest of the file one cell.

    Raises
    ------
    FileError
        Naming the row in which it was opened.
    """
    if layout.signs.quotes % 2:
        for _ in strict_rows(path, layout):
            pass


def strict_rows(path: Path, layout: Layout) -> Iterator[tuple[int, list[str], int]]:
    """The rows of a text with their numbers and the number of lines that each takes, quotation marks held to.

    Raises
    ------
    FileError
        For the first row whose quotation marks do not fit together.
    """
    row = before = 0
    with path.open(encoding=layout.encoding, errors="replace", newline="") as text:
        reader = csv.reader(text, delimiter=layout.delimiter, strict=True)
        # Lines above the header are no rows of the table and may hold anything.
        for _ in range(layout.lines_above - 1):
            next(text, "")
        try:
            for row, cells in enumerate(reader, start=layout.rows_above):
                yield row, cells, reader.line_num - before
                before = reader.line_num
        except csv.Error as error:
            at = row + 1 if row else layout.rows_above
            raise FileError(OPEN.format(path.name), where=f"row {at}", todo=TODO) from error


def notes_of_lines(path: Path, layout: Layout, rows: int) -> list[Note]:
    """Look at the lines of a file where there are more or fewer of them than rows.

    Parameters
    ----------
    path, layout
        The file.
    rows
        Number of rows that were read below the header.

    Raises
    ------
    FileError
        Where a quotation mark is left open and closed by the next one, rows further down.
    """
    if not may_differ(layout, rows):
        return []
    blank, swallowed = list[int](), list[int]()
    width = len(layout.names)
    for row, cells, lines in strict_rows(path, layout):
        if not cells and width > 1 and row > layout.rows_above:
            blank.append(row)
        if lines > 1 and any(holds_rows(cell, layout.delimiter, width) for cell in cells):
            swallowed.append(row)
    while blank and blank[-1] == row:  # blank lines at the end shift no row
        row = blank.pop() - 1
    notes = []
    if swallowed:
        text = "a cell in quotation marks holds lines that look like rows: was a quotation mark left open?"
        notes.append(Note(text, "", tuple((at, None) for at in swallowed[:MOST_SHOWN]), "swallowed", len(swallowed)))
    if blank:
        text = f"{counted(len(blank), 'line is', 'lines are')} blank and {plural(len(blank), 'is', 'are')} no "
        text += f"{plural(len(blank), 'row', 'rows')}; row numbers below do not count "
        text += f"{plural(len(blank), 'it', 'them')}."
        notes.append(Note(text, "", tuple((at, None) for at in blank[:MOST_SHOWN]), "blank-lines", len(blank)))
    return notes


def may_differ(layout: Layout, rows: int) -> bool:
    """False where each line is a row, which costs no look at the rows."""
    if layout.encoding.lower().replace("_", "-").startswith(("utf-16", "utf-32")):
        return True
    lines = layout.signs.line_feeds
    # The last line may end with the file; a file of carriage returns has no line feed at all.
    return lines > 0 and lines - rows - layout.lines_above not in (-1, 0)


def holds_rows(cell: str, delimiter: str, width: int) -> bool:
    """True where a line inside a cell has as many parts as the table has columns."""
    return width > 1 and any(line.count(delimiter) == width - 1 for line in cell.splitlines()[1:])
