"""JSON Lines: one object per row."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json

from lomrix.core.arrays.types import Array
from lomrix.core.combining import run_in_memory
from lomrix.core.errors import FileError, UsageError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.text.dates import is_local
from lomrix.files import descriptor
from lomrix.files.arrow_columns import columns_from_arrow, combine_chunks
from lomrix.files.arrow_form import ArrowForm
from lomrix.files.byte_stats import cut_at_lines, read_range
from lomrix.files.file_source import Cells, FileSource
from lomrix.files.reading import TYPED_OPTIONS
from lomrix.files.staging import DescribedSink

PART = 1 << 16
# A larger file is read in blocks of lines, twice: for its names, and for its cells.
LARGE, BLOCK = 1 << 26, 1 << 24
# Digits of a number that is long.
LONG = 16
# The bit that makes a letter small.
CASE = np.uint8(32)
# Integers up to this are exact as floats.
EXACT = 2**53
WITH_OFFSET = re.compile(rb':\s*"\d{4}-\d\d-\d\d[T ]\d\d:\d\d[\d:.]*[+-]\d\d:?\d\d"')
TIME = re.compile(r"\d{4}-\d\d-\d\d")
NOT_AN_OBJECT = re.compile(rb"(?m)^[ \t\r]*[^{\s]")
LONG_NUMBER = re.compile(rb":\s*-?\d{16,}|:\s*-?[\d.]+[eE][+-]?\d{3}|:\s*-?[NI][a-zA-Z]")


@dataclass(frozen=True)
class Parsed:
    """Lines as they were parsed, the columns whose cells are of several kinds, and whether times have an offset."""

    arrow: pa.Table
    mixed: tuple[str, ...]
    has_offset: bool


NOTHING = Parsed(pa.table({}), (), has_offset=False)


class Reader(FileSource):
    """A file of JSON Lines; its names are known only after all lines are read."""

    options_used = TYPED_OPTIONS | {"encoding"}

    @property
    def _is_large(self) -> bool:
        """True if it is read some lines at a time, where that is asked for."""
        return self.path.stat().st_size > LARGE and self._encoding == "utf-8"

    @property
    def _encoding(self) -> str:
        return self.settings.encoding or "utf-8"

    @cached_property
    def _whole(self) -> Parsed:
        """All lines."""
        content = self._require_utf8(self.path.read_bytes(), 0)
        if not content.strip():
            return Parsed(pa.table({name: pa.nulls(0) for name in self._described_names}), (), has_offset=False)
        return self._parse(content, 0)

    def list_pieces(self) -> list[range]:
        """List the bytes of some lines at a time; none if the file is small."""
        return cut_at_lines(self.path, 0, BLOCK) if self._is_large else []

    def _read_lines(self, piece: range) -> bytes:
        """Return some lines in UTF-8."""
        return self._require_utf8(read_range(self.path, piece), piece.start)

    def _count_lines(self, start: int) -> int:
        """Count the lines above a byte."""
        return sum(read_range(self.path, piece).count(b"\n") for piece in cut_at_lines(self.path, 0, BLOCK)
                   if piece.start < start)  # fmt: skip

    def _parse(self, content: bytes, start: int) -> Parsed:
        """Parse the lines from byte `start` of the file on."""
        mixed: tuple[str, ...] = ()
        try:
            # The fast parser accepts lines that are not objects, and truncates numbers.
            arrow = None if needs_slow_parser(content) else pa.json.read_json(pa.BufferReader(content))
        except pa.ArrowException:
            arrow = None
        if arrow is None or has_repeated_names(content, arrow):
            arrow, mixed = read_line_by_line(content, self.path, lambda: self._count_lines(start), self._is_text)
        elif texts := [name for name, column in get_columns(arrow).items() if is_time(column) and self._is_text(name)]:
            # The fast parser converts any text that looks like a time.
            schema = pa.schema([(name, pa.string()) for name in texts])
            retyped = pa.json.read_json(pa.BufferReader(content), parse_options=pa.json.ParseOptions(schema))
            arrow = retyped.select(arrow.column_names)
        arrow = pa.table({name: narrow_to_dates(column) for name, column in get_columns(arrow).items()})
        has_times = any(map(is_time, arrow.columns))
        return Parsed(arrow, mixed, has_offset=has_times and WITH_OFFSET.search(content) is not None)

    def _require_utf8(self, content: bytes, start: int) -> bytes:
        """Return content in UTF-8, the default encoding of JSON."""
        try:
            text = content.decode(self._encoding)
        except UnicodeDecodeError as error:
            line = self._count_lines(start) + content.count(b"\n", 0, error.start) + 1
            raise FileError(
                f"{self.path.name} has bytes that are not {self._encoding}.",
                where=f"line {line}, byte {content[error.start : error.start + 1]!r}",
                todo="Correct the byte in a copy; if the whole file has another encoding, add ‹encoding=cp1252›.",
            ) from error
        except LookupError as error:
            raise UsageError(f"Unknown encoding {self._encoding}.", todo="Use ‹encoding=cp1252›.") from error
        return content if self._encoding == "utf-8" else text.encode()

    def _is_text(self, name: str) -> bool:
        """Return whether a column is declared as text, or its times are wanted as they stand there."""
        found = descriptor.find_beside(self.path)
        described = Dictionary() if found is None or not found.fits else found.resource.make_dictionary()
        is_text = self.settings.all_text or self.settings.get_variable(name, described).type == "string"
        return is_text or is_local(self.settings.get_date_format(name))

    @property
    def _described_names(self) -> list[str]:
        """The names of a file without lines, which only its descriptor knows."""
        found = descriptor.find_beside(self.path)
        if found is None or not found.fits:
            raise FileError(f"{self.path.name} is empty.", todo="Check that it was saved or copied whole.")
        return list(found.resource.names)

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the keys of all objects."""
        if not self._is_large:
            return list(self._whole.arrow.column_names), None
        return list(dict.fromkeys(name for piece in self.list_pieces() for name in self._find_names(piece))), None

    def _find_names(self, piece: range) -> Sequence[str]:
        """Return the keys of some lines; what is wrong with these is found once their cells are read."""
        content = self._read_lines(piece)
        try:
            return pa.json.read_json(pa.BufferReader(content)).column_names if content.strip() else []
        except pa.ArrowException:
            return self._parse(content, piece.start).arrow.column_names

    def estimate_rows(self) -> int:
        """Estimate the number of lines from the first ones."""
        with self.path.open("rb") as file:
            first = file.read(PART)
        return self.path.stat().st_size * max(first.count(b"\n"), 1) // max(len(first), 1)

    def estimate_text_size(self) -> int:
        """Return the mean length of a line."""
        return self.path.stat().st_size // max(self.estimate_rows(), 1)

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Return the values."""
        return self._convert(self._whole, names, rows)

    def read_piece(self, piece: range, names: Sequence[str]) -> Cells:
        """Return the values of some lines."""
        content = self._read_lines(piece)
        is_blank = not content.strip()
        return self._convert(NOTHING if is_blank else self._parse(content, piece.start), names, None)

    def _convert(self, part: Parsed, names: Sequence[str], rows: range | None) -> Cells:
        arrow = part.arrow if rows is None else part.arrow.slice(rows.start, max(rows.stop - rows.start, 0))
        absent = {name: pa.nulls(arrow.num_rows) for name in names if name not in arrow.column_names}
        arrow = pa.table({**get_columns(arrow), **absent})
        columns, notes = columns_from_arrow(arrow, names, self.settings, self.described.dictionary, self.path.name)
        if part.has_offset and any(column.type == "datetime" for column in columns.values()):
            text = "timestamps with an offset were converted to UTC; ‹type=COLUMN=datetime:local› reads the time there."
            notes.append(Note(text, kind="offset"))
        for name in part.mixed:
            if name in columns and self.settings.get_variable(name, self.described.dictionary).type is None:
                notes.append(Note("kept as text: its cells are of several kinds.", name, kind="stray-text"))
        order = list(columns)
        return Cells(columns, sorted(notes, key=lambda note: order.index(note.column) if note.column else -1))


def get_columns(arrow: pa.Table) -> dict[str, pa.ChunkedArray]:
    """Return the columns by name."""
    return dict(zip(arrow.column_names, arrow.columns, strict=True))


def is_time(column: pa.ChunkedArray) -> bool:
    """Return whether a column holds timestamps."""
    return pa.types.is_timestamp(column.type)


def needs_slow_parser(content: bytes) -> bool:
    """Return whether a line does not begin with a brace, or a number is too long for the fast parser."""
    return NOT_AN_OBJECT.search(content) is not None or (
        may_hold_long_number(content) and LONG_NUMBER.search(content) is not None
    )


def may_hold_long_number(content: bytes) -> bool:
    """Return whether content has many digits in a row, an exponent, or a word as a number, without searching long."""
    if any(word in content for word in (b"NaN", b"Inf")):
        return True
    for start in range(0, len(content), PART):
        raw = np.frombuffer(content[start : start + PART + LONG], np.uint8)
        run = is_digit = (raw - ord("0")) < 10  # unsigned: others are over 10
        before = is_digit[:-1] | (raw[:-1] == ord("."))
        if (before & ((raw[1:] | CASE) == ord("e"))).any():
            return True
        for step in (1, 2, 4, 8):  # from one digit to sixteen
            run = run[:-step] & run[step:]
        if run.any():
            return True
    return False


def has_repeated_names(content: bytes, arrow: pa.Table) -> bool:
    """Return whether an object may repeat a name, of which the fast parser keeps one."""
    for name, column in get_columns(arrow).items():
        key = re.escape(json.dumps(name, ensure_ascii=False).encode())
        present = len(column) - column.null_count
        if content.count(json.dumps(name, ensure_ascii=False).encode()) <= present:
            continue
        occurrences = len(re.findall(key + rb"\s*:", content)) - len(re.findall(key + rb"\s*:\s*null\b", content))
        if occurrences > present:
            return True
    return False


def make_object(pairs: list[tuple[str, object]]) -> dict[str, object]:
    """Return an object as a dict.

    Raises ValueError if a name is repeated.
    """
    row = dict(pairs)
    if len(row) < len(pairs):
        repeated = next(name for index, (name, _) in enumerate(pairs) if name in [other for other, _ in pairs[:index]])
        raise ValueError(f"the name {repeated} occurs twice")
    return row


def refuse_constant(text: str) -> object:
    """Refuse constants that are not JSON.

    Raises ValueError: always.
    """
    raise ValueError(f"{text} is not a JSON value")


def parse_decimal(text: str) -> float | str:
    """Return a decimal, or its text if it is too large for float64."""
    value = float(text)
    return value if math.isfinite(value) else text


def read_line_by_line(
    content: bytes, path: Path, count_lines_above: Callable[[], int], is_text: Callable[[str], bool]
) -> tuple[pa.Table, tuple[str, ...]]:
    """Read what the fast parser refused: cells of several kinds become text.

    Return the table, and the columns of several kinds.

    Raises FileError for the first line that is not a JSON object.
    """
    rows = []
    for index, line in enumerate(content.splitlines()):
        if not line.strip():
            continue
        try:
            row = json.loads(
                line, object_pairs_hook=make_object, parse_constant=refuse_constant, parse_float=parse_decimal
            )
        except ValueError as error:
            raise FileError(
                f"Line {count_lines_above() + index + 1} of {path.name} is not valid JSON.",
                where=f"{error.msg}, character {error.colno}"
                if isinstance(error, json.JSONDecodeError)
                else str(error),
                todo="Correct it in a copy of the file.",
            ) from error
        if not isinstance(row, dict):
            number = count_lines_above() + index + 1
            raise FileError(f"Line {number} of {path.name} is not an object.", todo="Each line must be {...}, one row.")
        rows.append(row)
    names = list(dict.fromkeys(name for row in rows for name in row))
    columns = {name: [row.get(name) for row in rows] for name in names}
    kinds = {name: {type(cell) for cell in cells if cell is not None} for name, cells in columns.items()}
    mixed_names = tuple(name for name, types in kinds.items() if len(types) > 1 and types != {int, float})
    arrays = {name: make_array(cells) for name, cells in columns.items()}
    return pa.table(
        {name: array if is_text(name) else find_times(array) for name, array in arrays.items()}
    ), mixed_names


def make_array(cells: list[object]) -> pa.Array:
    """Return cells as an Arrow array, as text if they have no common type or a number is too long."""
    try:
        array = pa.array(cells)
        if not pa.types.is_floating(array.type) or not any(
            isinstance(cell, int) and abs(cell) > EXACT for cell in cells
        ):
            return array
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        pass
    return pa.array([None if cell is None else cell if isinstance(cell, str) else json.dumps(cell) for cell in cells])


def find_times(array: pa.Array) -> pa.Array:
    """Return texts that all look like times as the fast parser would; anything else unchanged."""
    texts = array.to_pylist() if pa.types.is_string(array.type) else []
    if not TIME.match(next((text for text in texts if text is not None), "")):
        return array
    lines = "".join(json.dumps({"": text}) + "\n" for text in texts)
    return combine_chunks(pa.json.read_json(pa.BufferReader(lines.encode())).column(""))


def narrow_to_dates(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Convert timestamps that are all at midnight to dates, which JSON lacks."""
    if not is_time(column):
        return column
    seconds = column.cast(pa.timestamp("s"), safe=False).cast(pa.int64()).drop_null()
    whole = not (seconds.to_numpy() % 86_400).any()
    return column.cast(pa.date32()) if whole else column


@dataclass
class Writer(DescribedSink):
    """JSON Lines, missing cells as null, with a descriptor beside it."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        with part.open("wb") as file:
            parts = ((some,) for some in content.split(PART) if len(some))
            for lines in (self.run or run_in_memory)(format_lines, parts):
                file.write(lines.data)
        return self.make_descriptor(part, ArrowForm.from_table(content, packs=False).make_descriptor())


def format_lines(table: Table) -> Array:
    """Return the rows as lines of JSON: their bytes."""
    parts: list[pa.Array | str] = []
    for index, (name, column) in enumerate(table.columns.items()):
        parts.append(("{" if index == 0 else ", ") + json.dumps(name, ensure_ascii=False) + ": ")
        parts.append(format_json(column.to_arrow()))
    lines = pc.binary_join_element_wise(*parts, "}\n", "", null_handling="skip")
    return np.frombuffer("".join(lines.to_pylist()).encode(), np.uint8)


def format_json(column: pa.Array) -> pa.Array:
    """Format the cells as JSON, once for each distinct text."""
    if pa.types.is_dictionary(column.type):
        column = column.cast(pa.string())
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        encoded = column.dictionary_encode()
        texts = [json.dumps(text, ensure_ascii=False) for text in encoded.dictionary.to_pylist()]
    elif pa.types.is_temporal(column.type):
        encoded = column.dictionary_encode()
        texts = [json.dumps(text) for text in encoded.dictionary.cast(pa.string()).to_pylist()]
    elif pa.types.is_floating(column.type):
        cells = column.cast(pa.string())
        # With a point it is read as a float again, and -0.0 keeps its minus.
        whole = pc.match_substring_regex(cells, r"^-?\d+$")
        return pc.if_else(whole, pc.binary_join_element_wise(cells, ".0", ""), cells).fill_null("null")
    else:
        return column.cast(pa.string()).fill_null("null")
    positions = np.asarray(encoded.indices.fill_null(len(texts)).to_numpy(zero_copy_only=False))
    return pa.array([*texts, "null"], pa.string()).take(pa.array(positions))
