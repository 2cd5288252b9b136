"""The layout of delimited text: encoding, delimiter, header and quote characters."""

from __future__ import annotations

import codecs
import csv
import io
import re
import statistics
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.characters import make_plain_name
from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, plural
from lomrix.core.wording import shorten_list
from lomrix.files import descriptor
from lomrix.files.byte_stats import ByteStats, count_bytes, read_range
from lomrix.files.footers import note_likely_footer
from lomrix.files.header_rows import HEAD_ROWS, ROWS_BELOW, Header, find_header
from lomrix.files.reading import ReadSettings, is_delimiter

HEAD = 1 << 22
# Bytes in which a footer is looked for.
TAIL = 1 << 13
# Characters that mostly include the first lines.
FIRST_LINES = 1 << 16
# A line of more columns than this is hardly a header.
MOST_COLUMNS = 100_000
# With at least this many non-ASCII bytes a guess of the encoding is reliable.
ENOUGH_TO_GUESS = 60
DELIMITERS = ",\t;|"
# Python codecs that are not text encodings.
NON_TEXT_ENCODINGS = ("idna", "punycode", "undefined", "unicode-escape", "raw-unicode-escape", "rot13", "hex", "base64")
WESTERN = ("cp1252", "latin", "iso8859_1", "cp85", "cp437", "mac")
BYTE_ORDER_MARKS = {b"\xef\xbb\xbf": "utf-8", b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16"}
# One cell, such as a name, may be longer than the library expects.
csv.field_size_limit(2**31 - 1)


@dataclass(frozen=True)
class Layout:
    """The layout of a file.

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
    described
        The labels and units of the variables in these rows.
    cells_below
        How many cells each of the first rows of data has; 0 if they differ.
    """

    encoding: str
    delimiter: str
    names: list[str]
    notes: tuple[Note, ...]
    byte_stats: ByteStats
    quotes_below: int
    is_empty_below: bool
    lines_above: int = 1
    rows_above: int = 1
    described: Dictionary = field(default_factory=Dictionary)
    cells_below: int = 0

    @property
    def has_quotes(self) -> bool:
        """True if cells may be quoted, and so hold line breaks."""
        return self.quotes_below > 0


def find_layout(path: Path, settings: ReadSettings) -> Layout:
    """Find encoding, delimiter and header from the beginning of the file."""
    described = read_described_layout(path)
    head, text, encoding = decode_head(path, settings.encoding, described.encoding)
    stated = get_stated_delimiter(text)
    delimiter = settings.delimiter or stated or described.delimiter or detect_delimiter(text, path)
    rows, ends = read_head(text, delimiter, path, at_least=HEAD_ROWS + settings.rows_stated)
    header = find_header([["", ""], *rows[1:]] if stated else rows, settings, path.name, is_known=described.is_named)
    ends = [*ends, 0]  # without a header nothing is above the data
    is_cut = len(head) == HEAD
    cells_below = count_cells(rows[header.above :])
    if not any(cell for row in rows[header.above :] for cell in row[len(header.cells) :]):
        header = header.pad(cells_below)  # every row ends with delimiters
    last = header.above - 1
    if ends[last] > header.above and not is_cut and text.count('"') % 2:
        raise FileError(
            f"A quotation mark is unclosed in the header of {path.name}.",
            where=f"row {header.above}",
            todo="Close or remove it in a copy of the file.",
        )
    if len(header.cells) > MOST_COLUMNS or (is_cut and "\n" not in text):
        raise FileError(
            f"The first line of {path.name} is not a header: it has {len(header.cells):,} cells.",
            todo="Check the file and its ‹delimiter›.",
        )
    names, name_notes = name_columns(header, path, numbers_names=settings.number_names, is_known=described.is_named)
    notes = [*header.notes, *name_notes]
    if not settings.encoding and not encoding.startswith("utf"):
        message = f"the file is not UTF-8 and was read as {encoding}; if letters look wrong, use ‹encoding›."
        notes.append(Note(message, kind="encoding"))
    # With a single column an empty line is a row.
    is_empty = not is_cut and not any(row or len(names) == 1 for row in rows[header.above :])
    byte_stats = count_bytes(path)
    quotes_in_body = count_quotes_below(byte_stats, head if header.rows else b"")
    if not (settings.skip_last or settings.all_text or described.is_named or quotes_in_body):
        tail, first_row = read_tail(path, encoding, delimiter, byte_stats.line_feeds)
        notes += note_likely_footer(tail[max(header.above - first_row + 1, 0) :], max(first_row, header.above + 1))
    return Layout(
        encoding, delimiter, names, tuple(notes), byte_stats, quotes_in_body, is_empty, ends[last],
        header.above, header.describe(names), cells_below,
    )  # fmt: skip


def read_tail(path: Path, encoding: str, delimiter: str, line_feeds: int) -> tuple[list[list[str]], int]:
    """Read the last rows, and return the number of the first of them as the file has this many lines."""
    size = path.stat().st_size
    start = max(size - TAIL, 0) // 4 * 4  # a character has at most four bytes
    text = read_range(path, range(start, size)).decode(encoding, "replace")
    lines = re.split(r"\r\n|\n|\r", re.sub(r"\r?\n$", "", text))[1 if start else 0 :]
    count = line_feeds + (0 if text.endswith("\n") else 1)
    return list(csv.reader(lines, delimiter=delimiter)), count - len(lines) + 1


def count_cells(rows: Sequence[Sequence[str]]) -> int:
    """Return how many cells each of some rows has; 0 if they differ. Blank rows do not count."""
    widths = {len(row) for row in rows if any(row)}
    return widths.pop() if len(widths) == 1 else 0


def decode_head(path: Path, stated: str, described: str) -> tuple[bytes, str, str]:
    """Return the first bytes of a file, their text, and the encoding: as stated, else as its first bytes, its
    descriptor or its letters show.

    Raises FileError if it is empty, or not text.
    """
    with path.open("rb") as file:
        head = file.read(HEAD)
    if not head.strip():
        raise FileError(f"{path.name} is empty.", todo="Check that it was saved or copied whole.")
    marked = next((name for bom, name in BYTE_ORDER_MARKS.items() if head.startswith(bom)), "")
    encoding = stated or marked or detect_encoding(head, described)
    if head.startswith(b"PK\x03\x04"):
        raise FileError(
            f"{path.name} is a zip file, as workbooks are, and not delimited text.",
            todo="If it is a workbook, give it its own extension, such as .xlsx or .ods.",
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
        text = head.decode(encoding, errors="ignore" if len(head) == HEAD else "replace")
    except (LookupError, UnicodeError) as error:
        raise FileError(f"Unknown encoding {encoding}.", todo="Use ‹encoding=utf-8› or ‹encoding=cp1252›.") from error
    return head, text.removeprefix("\ufeff"), encoding


def count_quotes_below(byte_stats: ByteStats, head: bytes) -> int:
    """Count the quote characters below the header; those around its names do not matter, unless one is unclosed."""
    in_header = head[: max(head.find(b"\n"), 0)].count(b'"')
    return byte_stats.quotes - in_header if in_header % 2 == 0 else byte_stats.quotes


def read_head(text: str, delimiter: str, path: Path, at_least: int) -> tuple[list[list[str]], list[int]]:
    """Return the first rows of a text and the line that each of them ends with.

    Raises FileError if a quotation mark among them is never closed.
    """
    rows, end_lines = list[list[str]](), list[int]()
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        for row in reader:
            rows.append(row)
            end_lines.append(reader.line_num)
            if len(rows) > at_least and any(rows[-ROWS_BELOW:]):
                break
    except csv.Error as error:
        raise FileError(
            f"The header of {path.name} cannot be read.", where=str(error), todo="Correct its first line."
        ) from error
    return rows, end_lines


def get_stated_delimiter(text: str) -> str:
    """Return the delimiter of a first line `sep=;`, as spreadsheets write it; empty if there is none."""
    match = re.match(r"\"?sep=([,;|\t])\"?[,;|\t]*\r?\n", text)
    return match[1] if match else ""


def read_described_layout(path: Path) -> descriptor.TextLayout:
    """Return the delimiter and encoding in the descriptor beside a file; empty if unknown."""
    try:
        beside = descriptor.find_beside(path)
    except FileError:  # reported where the descriptor is needed
        return descriptor.TextLayout("", "")
    if beside is None or not beside.fits:
        return descriptor.TextLayout("", "")
    stated_delimiter = beside.resource.dialect.get("delimiter", "")
    delimiter = stated_delimiter if isinstance(stated_delimiter, str) and is_delimiter(stated_delimiter) else ""
    encoding = beside.resource.encoding
    return descriptor.TextLayout(delimiter, encoding if is_encoding(encoding) else "", is_named=True)


def is_encoding(name: str) -> bool:
    """Return whether files can be written in an encoding of that name."""
    try:
        return codecs.lookup(name).name not in NON_TEXT_ENCODINGS
    except (LookupError, ValueError):  # a name with a null character
        return False


def detect_encoding(head: bytes, stated: str) -> str:
    """Return UTF-8 if the bytes allow it, else the descriptor's encoding, else the likeliest."""
    try:
        head[: len(head) - 4].decode() if len(head) == HEAD else head.decode()
        return stated if stated and b"\0" in head else "utf-8"
    except UnicodeDecodeError:
        if is_mostly_utf8(head):
            return "utf-8"  # the row with the invalid byte is reported when the file is read
        if stated and codecs.lookup(stated).name != "utf-8":
            return stated
        from charset_normalizer import from_bytes

        # Most files that are not UTF-8 come from a spreadsheet in the western code page.
        non_ascii = sum(byte > 127 for byte in head[:50_000])
        best = from_bytes(head[:50_000]).best() if non_ascii >= ENOUGH_TO_GUESS else None
        return "cp1252" if best is None or best.encoding.startswith(WESTERN) else best.encoding


def is_mostly_utf8(head: bytes) -> bool:
    """Return whether non-ASCII letters are UTF-8, except for a few bytes."""
    text = head.decode("utf-8", "surrogateescape")
    invalid = sum("\udc80" <= letter <= "\udcff" for letter in text)
    valid = sum(letter > "\x7f" for letter in text) - invalid
    return valid > invalid


def detect_delimiter(text: str, path: Path) -> str:
    """Return the delimiter that splits the first lines into the same number of cells, at least two."""
    if path.suffix.lower() == ".tsv":
        return "\t"
    beginning = text[:FIRST_LINES]
    lines = (beginning if beginning.count("\n") >= 50 else text).splitlines()[:50]
    lines = lines[:-1] if len(lines) > 1 and len(text) >= HEAD else lines
    result, best_score = ",", 0
    for delimiter in DELIMITERS:
        widths = [len(row) for row in csv.reader(lines, delimiter=delimiter) if row]
        usual = statistics.mode(widths) if widths else 0
        if usual > 1:
            # Lines above the header may be of another width.
            score = widths.count(usual) * 1000 + usual
            if score > best_score and (widths[0] > 1 or widths.count(usual) > 0.5 * len(widths)):
                result, best_score = delimiter, score
    return result


def name_columns(
    header: Header, path: Path, *, numbers_names: bool, is_known: bool
) -> tuple[list[str], tuple[Note, ...]]:
    """Return the header's names; an empty one gets a name and a note, and one that occurs again a number, if wanted.

    Names are made plain, unless a descriptor has them as they are.

    Raises FileError if two columns have one name.
    """
    stripped = [name.strip() for name in header.cells]
    names = stripped if is_known else [make_plain_name(name) for name in stripped]
    changed = [plain for name, plain in zip(stripped, names, strict=True) if name != plain]
    notes = []
    if changed:
        text = "line breaks, or characters that cannot be seen, were left out of "
        text += f"{plural(len(changed), 'a name', f'{len(changed)} names')}: {shorten_list(changed)}."
        notes.append(Note(text, kind="names", count=len(changed), done=True))
    for number, name in enumerate(names, start=1):
        if not name:
            names[number - 1] = f"column_{number}"
            text = f"column {number} has no name in the header; it is named column_{number}."
            notes.append(Note(text, kind="unnamed"))
    seen: dict[str, int] = {}
    for number, name in enumerate(names, start=1):
        if name in seen:
            new = next(f"{name}_{count}" for count in range(2, len(names) + 2) if f"{name}_{count}" not in names)
            if numbers_names:
                text = f'column {number} is named "{name}" as column {seen[name]} is; here it is {new}.'
                notes.append(Note(text, kind="numbered"))
                names[number - 1] = new
                continue
            last = header.rows[-1]
            two_rows = f" If the header has two rows: ‹header_rows={last},{last + 1}›" if last else ""
            raise FileError(
                f"The name {name} occurs twice in the header of {path.name}.",
                where=f"row {last + 1}, columns {seen[name]} and {number}",
                todo=f"Add ‹number_names› to name the second one {new}.{two_rows}",
            )
        seen[name] = number
    return names, tuple(notes)
