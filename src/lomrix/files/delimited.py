"""Delimited text: .csv .tsv .txt, read as text by PyArrow and typed by our rules."""

from __future__ import annotations

import csv
import io
import mmap
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.from_text import FEW_ROWS, typed_chunks
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.read import Read, ReadSettings
from lomrix.files.text_writer import delimiter_of, write_columns
from lomrix.files.tokens import tokens_of

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


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read a delimited text file.

    Parameters
    ----------
    path
        The file.
    settings
        What was said about it; what is not said is found.

    Returns
    -------
    The table, its notes and its origin.

    Raises
    ------
    FileError
        Where the file is empty, its rows are ragged, a name is repeated or bytes cannot be decoded.
    """
    layout = found_layout(path, settings)
    resource = descriptor.found_beside(path)
    notes = list(layout.notes)
    beside = Dictionary()
    history: tuple[Mapping[str, Any], ...] = ()
    if resource is not None:
        if [field.name for field in resource.schema_.fields] == layout.names:
            beside, history = resource.dictionary(), resource.history
        else:
            text = f"{descriptor.descriptor_path(path).name} names other columns than the file; it is not used."
            notes.append(Note(text, kind="descriptor"))
    needed = settings.names_needed(layout.names)
    arrays = cells_as_text(path, layout, needed)

    def typed(name: str) -> tuple[Column, list[Note]]:
        variable, format_ = settings.variable(name, beside), settings.date_format(name)
        # The text of a column is given back as soon as it is typed.
        found = typed_chunks(name, arrays.pop(name), variable, format_, settings.decimal)
        if len(found[0]) > FEW_ROWS:
            pa.default_memory_pool().release_unused()
        return found

    if any(len(chunks) > FEW_ROWS for chunks in arrays.values()):
        with ThreadPoolExecutor() as workers:
            found = list(workers.map(typed, needed))
    else:  # many short columns would only wait for each other
        found = list(map(typed, needed))
    columns = {name: column for name, (column, _) in zip(needed, found, strict=True)}
    notes += [note for _, column_notes in found for note in column_notes]
    dictionary = settings.dictionary.for_reading(columns).joined(beside).without_tokens()
    table = Table(columns, dictionary, history, path.stem)
    return Read(table, tuple(notes), tuple(layout.names))


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


def cells_as_text(path: Path, layout: Layout, needed: list[str]) -> Any:
    """The cells of some columns as text; blank cells are nulls."""
    if layout.is_empty_below:
        return {name: pa.chunked_array([pa.array([], pa.large_string())]) for name in needed}
    if layout.has_quotes:
        require_closed_quotes(path, layout)
    ragged: list[tuple[int, int, str]] = []

    def remember(row: Any) -> str:
        ragged.append((row.actual_columns, row.number or 0, row.text))
        return "error"

    parse = pacsv.ParseOptions(
        delimiter=layout.delimiter,
        newlines_in_values=layout.has_quotes,
        # In a file of one column an empty line is a blank cell.
        ignore_empty_lines=len(layout.names) > 1,
        invalid_row_handler=remember,
    )
    read = pacsv.ReadOptions(
        column_names=layout.names, skip_rows_after_names=1, encoding=layout.encoding, block_size=1 << 23
    )
    # Plain ASCII is valid UTF-8, so that not every cell need be examined.
    plain = layout.encoding == "utf-8" and is_ascii(path)
    convert = pacsv.ConvertOptions(
        column_types={name: pa.binary() if plain else pa.string() for name in needed},
        include_columns=needed,
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=True,
    )
    try:
        table = pacsv.read_csv(path, read, parse, convert)
        columns = dict(zip(table.column_names, table.columns, strict=True))
        return {name: as_texts(column) for name, column in columns.items()} if plain else columns
    except (pa.ArrowInvalid, UnicodeError) as error:
        raise _explained(path, layout, error, ragged) from error


def is_ascii(path: Path) -> bool:
    """True where the file has no byte above 127."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as whole:
        raw = np.frombuffer(whole, np.uint8)
        found = all(raw[start : start + ASCII_STEP].max() < 128 for start in range(0, len(raw), ASCII_STEP))
        del raw
    return found


def as_texts(column: Any) -> Any:
    """Bytes that are known to be text, as text, without copying."""
    return pa.chunked_array([chunk.view(pa.string()) for chunk in column.chunks], pa.string())


def _explained(path: Path, layout: Layout, error: Exception, ragged: list[tuple[int, int, str]]) -> FileError:
    """Say in plain words why a file cannot be read."""
    if ragged:
        cells, _, text = ragged[0]
        width = len(layout.names)
        return FileError(
            f"A row of {path.name} has {cells} cells, the header has {width}.",
            where=f"row {row_of(path, layout, text)}: {text[:100]}",
            todo="Mend the row in a copy: a delimiter inside a cell needs quotation marks around the cell."
            + (" Or name another --delimiter." if width == 1 else ""),
        )
    if "UTF8" in str(error) or isinstance(error, UnicodeError):
        return FileError(
            f"{path.name} has bytes that are not {layout.encoding}.",
            where=undecodable(path, layout.encoding),
            todo="Say how it was written, such as --encoding cp1252.",
        )
    what = "a quotation mark may be left open" if layout.has_quotes else descriptor.first_line(error)
    return FileError(
        f"{path.name} cannot be read as delimited text.", where=what, todo="Look at the row, or name the --delimiter."
    )


def row_of(path: Path, layout: Layout, text: str) -> str:
    """The number of the first row with other cells than the header, as a sheet counts it."""
    with path.open(encoding=layout.encoding, errors="replace", newline="") as file:
        reader = csv.reader(file, delimiter=layout.delimiter)
        try:
            rows = (row for row in reader if row)
            return str(next(at for at, row in enumerate(rows, start=1) if len(row) != len(layout.names)))
        except (StopIteration, csv.Error):
            return "unknown"


def undecodable(path: Path, encoding: str) -> str:
    """Where the first byte stands that cannot be decoded."""
    with path.open("rb") as file:
        for number, line in enumerate(file, start=1):
            try:
                line.decode(encoding)
            except UnicodeDecodeError as error:
                return f"line {number}, byte {error.start + 1}: {line[error.start : error.start + 1]!r}"
    return ""


# -------------------------------------------------------------------- writing


def write_table(table: Table, path: Path, final: Path, key: list[str]) -> dict[Path, bytes]:
    """Write a table as delimited text, with its descriptor.

    Parameters
    ----------
    table
        What to write.
    path
        Where to write it for now.
    final
        Where it will stand; its extension decides the delimiter.
    key
        Columns named as the primary key.

    Returns
    -------
    Contents of the files that belong beside it, by their path.
    """
    tokens = {name: tokens_of(column, table.dictionary.of(name)) for name, column in table.columns.items()}
    digest = write_columns(table.columns, tokens, path, delimiter_of(final))
    content = descriptor.descriptor(table, tokens, key)
    size = path.stat().st_size
    return {descriptor.descriptor_path(final): descriptor.descriptor_bytes(final, size, digest, content)}
