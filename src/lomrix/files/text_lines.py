"""What lines show that cells do not: unclosed quotation marks, swallowed rows, blank lines, footers."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.files.byte_stats import read_range
from lomrix.files.footers import FOOTER_ROWS, count_footer, note_footer
from lomrix.files.text_layout import Layout

MOST_SHOWN = 5
# Bytes at the end of a file among which a footer is searched first.
TAIL = 1 << 16
OPEN = "A quotation mark in {} is unclosed, or closed before the cell ends."
TODO = "Close it, remove it, or double it inside a cell, in a copy of the file."


@dataclass(frozen=True)
class Body:
    """A text up to its footer, or a piece of it: its bytes, their encoding, the lines above its first row of data, and
    a note on the skipped rows.
    """

    content: bytes
    encoding: str
    lines_above: int = 0
    note: Note | None = None


def split_footer(path: Path, layout: Layout, skip_last: str) -> Body:
    """Find the end of the data among the lines of a text, and read it up to there."""
    if not is_wide(layout.encoding):
        end, note = find_data_end(path, layout, skip_last)
        return Body(read_range(path, range(end)), layout.encoding, layout.lines_above, note)
    content = path.read_bytes().decode(layout.encoding).encode()
    end, note, _ = locate_footer(content, "utf-8", layout.delimiter, skip_last)
    return Body(content[: max(end, find_data_start(content, layout.lines_above))], "utf-8", layout.lines_above, note)


def find_data_end(path: Path, layout: Layout, skip_last: str) -> tuple[int, Note]:
    """Return the byte at which the footer begins, looking at no more than the end of the file; and a note on it."""
    size, length, is_cut = path.stat().st_size, TAIL, True
    while is_cut:
        begin = max(size - length, 0)
        tail = read_range(path, range(begin, size))
        lines_before = layout.byte_stats.line_feeds - tail.count(b"\n")
        end, note, is_cut = locate_footer(tail, layout.encoding, layout.delimiter, skip_last, lines_before)
        is_cut, length = is_cut and begin > 0, 8 * length
    with path.open("rb") as file:
        for _ in range(layout.lines_above):
            file.readline()
        return max(begin + end, file.tell()), note


def locate_footer(
    text: bytes, encoding: str, delimiter: str, skip_last: str, lines_before: int = 0
) -> tuple[int, Note, bool]:
    """Return where the footer begins in the end of a text, a note on it, and whether it may begin before."""
    limit = int(skip_last) if skip_last.isdigit() else FOOTER_ROWS
    # Blank lines may be between those that count.
    start = len(text)
    for _ in range(4 * limit + FOOTER_ROWS):
        if not start:
            break
        start = max(text.rfind(b"\n", 0, start), 0)
    lines = text[start:].splitlines(keepends=True)
    texts = [line.decode(encoding, "replace").rstrip("\r\n") for line in lines]
    rows = list(csv.reader(texts, delimiter=delimiter))
    # A quoted line break among the last lines would make rows and lines differ.
    rows = rows if len(rows) == len(lines) else [[text.strip()] for text in texts]
    count = count_footer(rows, skip_last)
    kept, footer = len(lines) - count, rows[len(rows) - count :]
    number = lines_before + text.count(b"\n", 0, start) + kept + 1
    return start + sum(map(len, lines[:kept])), note_footer(footer, number, skip_last), start == 0


def find_data_start(content: bytes, lines: int) -> int:
    """Return where the line after this many lines begins."""
    position = 0
    for _ in range(lines):
        position = content.find(b"\n", position) + 1 or len(content)
    return position


def require_closed_quotes(path: Path, layout: Layout) -> None:
    """Stop if a quotation mark is unclosed, which would make the rest of the file one cell.

    Raises FileError naming the row in which it opens.
    """
    if layout.byte_stats.quotes % 2:
        for _ in read_strictly(path, layout):
            pass


def read_strictly(path: Path, layout: Layout) -> Iterator[tuple[int, list[str], int]]:
    """Yield the rows of a text with their numbers and numbers of lines, checking quotation marks.

    Raises FileError for the first row with unbalanced quotation marks.
    """
    row = before = 0
    with path.open(encoding=layout.encoding, errors="replace", newline="") as text:
        reader = csv.reader(text, delimiter=layout.delimiter, strict=True)
        # Lines above the data are not rows of the table and may hold anything.
        for _ in range(layout.lines_above):
            next(text, "")
        try:
            for row, cells in enumerate(reader, start=layout.rows_above + 1):
                yield row, cells, reader.line_num - before
                before = reader.line_num
        except csv.Error as error:
            number = row + 1 if row else layout.rows_above + 1
            raise FileError(OPEN.format(path.name), where=f"row {number}", todo=TODO) from error


def note_lines(path: Path, layout: Layout, rows: int) -> list[Note]:
    """Examine the lines of a file if there are more or fewer of them than rows.

    Raises FileError if a quotation mark is unclosed until the next one, rows further down.
    """
    if not may_have_other_lines(layout, rows):
        return []
    blank, swallowed = list[int](), list[int]()
    width = len(layout.names)
    for row, cells, lines in read_strictly(path, layout):
        if not cells and width > 1:
            blank.append(row)
        if lines > 1 and any(holds_rows(cell, layout.delimiter, width) for cell in cells):
            swallowed.append(row)
    while blank and blank[-1] == row:  # blank lines at the end do not shift rows
        row = blank.pop() - 1
    notes = []
    if swallowed:
        text = "a quoted cell holds lines that look like rows: is a quotation mark unclosed?"
        notes.append(
            Note(text, "", tuple((number, None) for number in swallowed[:MOST_SHOWN]), "swallowed", len(swallowed))
        )
    if blank:
        text = f"{pluralize(len(blank), 'line is', 'lines are')} blank and {plural(len(blank), 'is', 'are')} no "
        text += f"{plural(len(blank), 'row')}; row numbers below do not count "
        text += f"{plural(len(blank), 'it', 'them')}."
        notes.append(Note(text, "", tuple((number, None) for number in blank[:MOST_SHOWN]), "blank-lines", len(blank)))
    return notes


def may_have_other_lines(layout: Layout, rows: int) -> bool:
    """Return False if each line is a row, without examining the rows."""
    if is_wide(layout.encoding):
        return True
    lines = layout.byte_stats.line_feeds
    # The last line may end with the file; a file of carriage returns has no line feed at all.
    return lines > 0 and lines - rows - layout.lines_above not in (-1, 0)


def is_bytewise(encoding: str) -> bool:
    """Return whether the bytes of a line feed and a quotation mark are nothing else: in UTF-8, and where each character
    is one byte.

    >>> is_bytewise("utf-8"), is_bytewise("cp1252"), is_bytewise("utf-16"), is_bytewise("shift_jis")
    (True, True, False, False)
    """
    is_single = len(bytes(range(256)).decode(encoding, "replace")) == 256
    return encoding == "utf-8" or (is_single and '\n"'.encode(encoding) == b'\n"')


def is_wide(encoding: str) -> bool:
    """Return whether a character has at least two bytes, so that a line feed is no byte of its own."""
    return encoding.lower().replace("_", "-").startswith(("utf-16", "utf-32"))


def holds_rows(cell: str, delimiter: str, width: int) -> bool:
    """Return whether a line inside a cell has as many parts as the table has columns."""
    return width > 1 and any(line.count(delimiter) == width - 1 for line in cell.splitlines()[1:])
