"""The layout of delimited text: its encoding, delimiter, header and quotation marks."""

from __future__ import annotations

import codecs
import csv
import io
import re
import statistics
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.table.notes import Note
from lomrix.files import descriptor
from lomrix.files.header_rows import HEAD_ROWS, ROWS_BELOW, Header, found_header
from lomrix.files.reading import ReadSettings
from lomrix.files.signs import Signs, signs_of

HEAD = 1 << 22
# Signs in which the first lines mostly stand.
FIRST_LINES = 1 << 16
# A line of more columns than this is hardly a header.
MOST_COLUMNS = 100_000
# From so many bytes that are not ASCII on, a guess at the encoding is worth something.
ENOUGH_TO_GUESS = 60
DELIMITERS = ",\t;|"
# What Python calls encodings, and no file is written in.
NO_ENCODINGS = ("idna", "punycode", "undefined", "unicode-escape", "raw-unicode-escape", "rot13", "hex", "base64")
WESTERN = ("cp1252", "latin", "iso8859_1", "cp85", "cp437", "mac")
BYTE_ORDER_MARKS = {b"\xef\xbb\xbf": "utf-8", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}
# One cell, such as a name, may be longer than the library expects.
csv.field_size_limit(2**31 - 1)


@dataclass(frozen=True)
class Layout:
    """How a file is laid out.

    Parameters
    ----------
    encoding, delimiter
        How its text is written.
    names
        Its header.
    notes
        What a person should look at.
    signs
        What its bytes are.
    quotes_below
        Quotation marks below the header.
    is_empty_below
        Whether there is no row of data.
    lines_above, rows_above
        What stands above the first row of data: lines of the text, and rows as a sheet counts them.
    """

    encoding: str
    delimiter: str
    names: list[str]
    notes: tuple[Note, ...]
    signs: Signs
    quotes_below: int
    is_empty_below: bool
    lines_above: int = 1
    rows_above: int = 1

    @property
    def has_quotes(self) -> bool:
        """True where cells may stand in quotation marks, and so hold line breaks."""
        return self.quotes_below > 0


def found_layout(path: Path, settings: ReadSettings) -> Layout:
    """Find encoding, delimiter and header from the beginning of the file."""
    with path.open("rb") as file:
        head = file.read(HEAD)
    if not head.strip():
        raise FileError(f"{path.name} is empty.", todo="Check that it was saved or copied whole.")
    mark = next((name for sign, name in BYTE_ORDER_MARKS.items() if head.startswith(sign)), "")
    beside = described(path)
    encoding = settings.encoding or mark or found_encoding(head, beside.encoding)
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
        if not is_encoding(encoding):
            raise LookupError(encoding)
        text = head.decode(encoding, errors="ignore" if len(head) == HEAD else "replace").removeprefix("\ufeff")
    except (LookupError, UnicodeError) as error:
        raise FileError(
            f"There is no encoding {encoding}.", todo="Say --encoding utf-8 or --encoding cp1252."
        ) from error
    delimiter = settings.delimiter or said_delimiter(text) or beside.delimiter or found_delimiter(text, path)
    rows, ends = head_rows(text, delimiter, path, at_least=HEAD_ROWS + settings.rows_named)
    hint = [["", ""], *rows[1:]] if said_delimiter(text) else rows
    header = found_header(hint, settings, path.name, is_known=beside.is_named)
    ends = [*ends, 0]  # where there is no header nothing stands above the data
    if ends[header.last] > header.last + 1 and len(head) < HEAD and text.count('"') % 2:
        raise FileError(
            f"A quotation mark is left open in the header of {path.name}.",
            where=f"row {header.last + 1}",
            todo="Close it, or take it out, in a copy of the file.",
        )
    if len(header.cells) > MOST_COLUMNS or (len(head) == HEAD and "\n" not in text):
        raise FileError(
            f"The first line of {path.name} is no header: it has {len(header.cells):,} cells.",
            todo="Check the file and its --delimiter.",
        )
    names, notes = column_names(header, path)
    notes = (*header.notes, *notes)
    if not settings.encoding and not encoding.startswith("utf"):
        told = f"the file is not UTF-8 and was read as {encoding}; if letters look wrong, say --encoding."
        notes = (*notes, Note(told, kind="encoding"))
    # In a file of one column an empty line is a row.
    is_empty = len(head) < HEAD and not any(row or len(names) == 1 for row in rows[header.last + 1 :])
    signs = signs_of(path)
    below = quotes_below(signs, head if header.places else b"")
    return Layout(encoding, delimiter, names, notes, signs, below, is_empty, ends[header.last], header.last + 1)


def quotes_below(signs: Signs, head: bytes) -> int:
    """Quotation marks below the header: those around its names say nothing of the cells, unless one is left open."""
    in_header = head[: max(head.find(b"\n"), 0)].count(b'"')
    return signs.quotes - in_header if in_header % 2 == 0 else signs.quotes


def head_rows(text: str, delimiter: str, path: Path, at_least: int) -> tuple[list[list[str]], list[int]]:
    """The first rows of a text and the line that each of them ends with.

    Raises
    ------
    FileError
        Where a quotation mark opened among them is closed by none.
    """
    rows, ends = list[list[str]](), list[int]()
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        for row in reader:
            rows.append(row)
            ends.append(reader.line_num)
            if len(rows) > at_least and any(rows[-ROWS_BELOW:]):
                break
    except csv.Error as error:
        raise FileError(
            f"The header of {path.name} cannot be read.", where=str(error), todo="Mend its first line."
        ) from error
    return rows, ends


def said_delimiter(text: str) -> str:
    """The delimiter that a first line of `sep=;` names, as spreadsheets write it; empty where there is none."""
    found = re.match(r"\"?sep=([,;|\t])\"?[,;|\t]*\r?\n", text)
    return found[1] if found else ""


def described(path: Path) -> descriptor.Written:
    """The delimiter and the encoding that the descriptor beside a file names; empty where it names none."""
    try:
        beside = descriptor.find_beside(path)
    except FileError:  # told where the descriptor is wanted
        return descriptor.Written("", "")
    if beside is None or not beside.fits:
        return descriptor.Written("", "")
    found = beside.resource.dialect.get("delimiter", "")
    delimiter = found if isinstance(found, str) and len(found) == 1 else ""
    encoding = beside.resource.encoding
    return descriptor.Written(delimiter, encoding if is_encoding(encoding) else "", is_named=True)


def is_encoding(name: str) -> bool:
    """True where files can be written in an encoding of that name."""
    try:
        return codecs.lookup(name).name not in NO_ENCODINGS
    except LookupError:
        return False


def found_encoding(head: bytes, said: str) -> str:
    """UTF-8 where the bytes allow it, else what the descriptor says, else the likeliest encoding of the file."""
    try:
        head[: len(head) - 4].decode() if len(head) == HEAD else head.decode()
        return said if said and b"\0" in head else "utf-8"
    except UnicodeDecodeError:
        if is_mostly_utf8(head):
            return "utf-8"  # the row with the bad byte is named where the file is read
        if said and codecs.lookup(said).name != "utf-8":
            return said
        from charset_normalizer import from_bytes

        # Most files that are not UTF-8 come from a spreadsheet in the western code page.
        unusual = sum(byte > 127 for byte in head[:50_000])
        best = from_bytes(head[:50_000]).best() if unusual >= ENOUGH_TO_GUESS else None
        return "cp1252" if best is None or best.encoding.startswith(WESTERN) else best.encoding


def is_mostly_utf8(head: bytes) -> bool:
    """True where letters outside ASCII are written as UTF-8 writes them, but for a few bytes."""
    text = head.decode("utf-8", "surrogateescape")
    bad = sum("\udc80" <= letter <= "\udcff" for letter in text)
    good = sum(letter > "\x7f" for letter in text) - bad
    return good > bad


def found_delimiter(text: str, path: Path) -> str:
    """The delimiter that cuts the first lines into the same number of cells, two at least."""
    if path.suffix.lower() == ".tsv":
        return "\t"
    first = text[:FIRST_LINES]
    lines = (first if first.count("\n") >= 50 else text).splitlines()[:50]
    lines = lines[:-1] if len(lines) > 1 and len(text) >= HEAD else lines
    best, most = ",", 0
    for delimiter in DELIMITERS:
        widths = [len(row) for row in csv.reader(lines, delimiter=delimiter) if row]
        usual = statistics.mode(widths) if widths else 0
        if usual > 1:
            # Lines above the header may be of another width.
            alike = widths.count(usual) * 1000 + usual
            if alike > most and (widths[0] > 1 or widths.count(usual) > 0.5 * len(widths)):
                best, most = delimiter, alike
    return best


def column_names(header: Header, path: Path) -> tuple[list[str], tuple[Note, ...]]:
    """The header's names; an empty one gets a name and a note.

    Raises
    ------
    FileError
        Where two columns have one name.
    """
    names = [name.strip() for name in header.cells]
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
            two_rows = f" If the header has two rows: ‹header_rows={header.last},{header.last + 1}›"
            raise FileError(
                f"The name {name} stands twice in the header of {path.name}.",
                where=f"row {header.last + 1}, columns {seen[name]} and {place}",
                todo="Rename one of the two columns in a copy of the file." + (two_rows if header.last else ""),
            )
        seen[name] = place
    return names, tuple(notes)
