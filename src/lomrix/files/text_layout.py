"""The layout of delimited text: its encoding, delimiter, header and quotation marks."""

from __future__ import annotations

import csv
import io
import mmap
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from lomrix.core.errors import FileError
from lomrix.core.table.notes import Note
from lomrix.files.reading import ReadSettings

HEAD = 1 << 22
ASCII_STEP = 1 << 24
# A line of more columns than this is hardly a header.
MOST_COLUMNS = 100_000
# From so many bytes that are not ASCII on, a guess at the encoding is worth something.
ENOUGH_TO_GUESS = 60
DELIMITERS = ",\t;|"
WESTERN = ("cp1252", "latin", "iso8859_1", "cp85", "cp437", "mac")
BYTE_ORDER_MARKS = {b"\xef\xbb\xbf": "utf-8", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}


@dataclass(frozen=True)
class Layout:
    """How a file is laid out: its encoding, delimiter and header."""

    encoding: str
    delimiter: str
    names: list[str]
    notes: tuple[Note, ...]
    has_quotes: bool
    is_empty_below: bool


def found_layout(path: Path, settings: ReadSettings) -> Layout:
    """Find encoding, delimiter and header from the beginning of the file."""
    with path.open("rb") as file:
        head = file.read(HEAD)
    if not head.strip():
        raise FileError(f"{path.name} is empty.", todo="Check that it was saved or copied whole.")
    mark = next((name for sign, name in BYTE_ORDER_MARKS.items() if head.startswith(sign)), "")
    encoding = settings.encoding or mark or found_encoding(path, head)
    if head.startswith(b"PK\x03\x04"):
        raise FileError(
            f"{path.name} is a zip file, as workbooks are, and not delimited text.",
            todo="If it is a workbook, give it its own extension: .xlsx or .ods.",
        )
    if b"\0" in head and not encoding.lower().replace("_", "-").startswith(("utf-16", "utf-32")):
        raise FileError(
            f"{path.name} is not delimited text: it holds NUL bytes.",
            where=f"byte {head.index(0) + 1}",
            todo="If it is a workbook or another kind of file, give it its own extension.",
        )
    try:
        text = head.decode(encoding, errors="ignore" if len(head) == HEAD else "replace").removeprefix("\ufeff")
    except LookupError as error:
        raise FileError(
            f"There is no encoding {encoding}.", todo="Say --encoding utf-8 or --encoding cp1252."
        ) from error
    csv.field_size_limit(1 << 27)
    delimiter = settings.delimiter or found_delimiter(text, path)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        header = next((row for row in reader if row), [])
        # In a file of one column an empty line is a row.
        is_empty_below = len(head) < HEAD and not any(row or len(header) == 1 for row in reader)
    except csv.Error as error:
        raise FileError(
            f"The header of {path.name} cannot be read.", where=str(error), todo="Mend its first line."
        ) from error
    if len(header) > MOST_COLUMNS or (len(head) == HEAD and "\n" not in text):
        raise FileError(
            f"The first line of {path.name} is no header: it has {len(header):,} cells.",
            todo="Check the file and its --delimiter.",
        )
    names, notes = column_names(header, path)
    if not settings.encoding and not encoding.startswith("utf"):
        told = f"the file is not UTF-8 and was read as {encoding}; if letters look wrong, say --encoding."
        notes = (*notes, Note(told, kind="encoding"))
    return Layout(encoding, delimiter, names, notes, has_quotes(path), is_empty_below)


def found_encoding(path: Path, head: bytes) -> str:
    """UTF-8 where the bytes allow it, else the likeliest encoding of the file."""
    try:
        head[: len(head) - 4].decode() if len(head) == HEAD else head.decode()
        return "utf-8"
    except UnicodeDecodeError:
        from charset_normalizer import from_bytes

        # Most files that are not UTF-8 come from a spreadsheet in the western code page.
        unusual = sum(byte > 127 for byte in head[:50_000])
        best = from_bytes(head[:50_000]).best() if unusual >= ENOUGH_TO_GUESS else None
        return "cp1252" if best is None or best.encoding.startswith(WESTERN) else best.encoding


def found_delimiter(text: str, path: Path) -> str:
    """The delimiter that cuts the first lines into the same number of cells, two at least."""
    if path.suffix.lower() == ".tsv":
        return "\t"
    lines = text.splitlines()[:50]
    lines = lines[:-1] if len(lines) > 1 and len(text) >= HEAD else lines
    best, most = ",", 0
    for delimiter in DELIMITERS:
        widths = [len(row) for row in csv.reader(lines, delimiter=delimiter) if row]
        if widths and widths[0] > 1:
            alike = sum(width == widths[0] for width in widths) * 1000 + widths[0]
            if alike > most:
                best, most = delimiter, alike
    return best


def column_names(header: list[str], path: Path) -> tuple[list[str], tuple[Note, ...]]:
    """The header's names; an empty one gets a name and a note.

    Raises
    ------
    FileError
        Where two columns have one name.
    """
    names = [name.strip() for name in header]
    notes = []
    for place, name in enumerate(names, start=1):
        if not name:
            names[place - 1] = f"column_{place}"
            notes.append(
                Note(
                    f"column {place} has no name in the header; it is called column_{place}.",
                    f"column_{place}",
                    kind="unnamed",
                )
            )
    seen: dict[str, int] = {}
    for place, name in enumerate(names, start=1):
        if name in seen:
            raise FileError(
                f"The name {name} stands twice in the header of {path.name}.",
                where=f"row 1, columns {seen[name]} and {place}",
                todo="Rename one of the two columns in a copy of the file.",
            )
        seen[name] = place
    return names, tuple(notes)


def has_quotes(path: Path) -> bool:
    """True where the file has a quotation mark below its header, so that a cell may hold a line break."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        line_end = max(whole.find(b"\n"), 0)
        # A header whose names stand in quotation marks says nothing of the cells, unless one holds a line break.
        start = line_end if whole[:line_end].count(b'"') % 2 == 0 else 0
        return whole.find(b'"', start) >= 0


def require_closed_quotes(path: Path, layout: Layout) -> None:
    """Stop where a quotation mark is left open, which would make the rest of the file one cell.

    Raises
    ------
    FileError
        Naming the row in which it was opened.
    """
    with path.open("rb") as file:
        marks = sum(part.count(b'"') for part in iter(lambda: file.read(1 << 22), b""))
    if marks % 2 == 0:
        return
    row = 1
    with path.open(encoding=layout.encoding, errors="replace", newline="") as text:
        try:
            for row, _ in enumerate(csv.reader(text, delimiter=layout.delimiter, strict=True), start=2):  # noqa: B007
                pass
        except csv.Error as error:
            raise FileError(
                f"A quotation mark is left open in {path.name}.",
                where=f"row {row}",
                todo="Close it, or take it out, in a copy of the file.",
            ) from error


def is_ascii(path: Path) -> bool:
    """True where the file has no byte above 127."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        raw = np.frombuffer(whole, np.uint8)
        found = all(raw[start : start + ASCII_STEP].max() < 128 for start in range(0, len(raw), ASCII_STEP))
        del raw
    return found
