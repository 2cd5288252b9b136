"""JSON Lines: one object per row."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json

from lomrix.core.errors import FileError, UsageError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import columns_from_arrow
from lomrix.files.arrow_form import ArrowForm
from lomrix.files.file_source import Cells, FileSource
from lomrix.files.reading import TYPED_OPTIONS
from lomrix.files.staging import DescribedSink

PART = 1 << 16
# Integers up to this are exact as floats.
EXACT = 2**53
WITH_OFFSET = re.compile(rb':\s*"\d{4}-\d\d-\d\d[T ]\d\d:\d\d[\d:.]*[+-]\d\d:?\d\d"')
NOT_AN_OBJECT = re.compile(rb"(?m)^[ \t\r]*[^{\s]")
LONG_NUMBER = re.compile(rb":\s*-?\d{16,}|:\s*-?[\d.]+[eE][+-]?\d{3}|:\s*-?[NI][a-zA-Z]")


class Reader(FileSource):
    """A file of JSON Lines; its names are known only after all lines are read."""

    options_used = TYPED_OPTIONS | {"encoding"}

    _mixed: tuple[str, ...] = ()

    @cached_property
    def _arrow(self) -> pa.Table:
        content = self._read_utf8()
        if not content.strip():
            return pa.table({name: pa.nulls(0) for name in self._described_names})
        try:
            # The fast parser accepts lines that are not objects, and truncates numbers.
            arrow = None if needs_slow_parser(content) else pa.json.read_json(pa.BufferReader(content))
        except pa.ArrowException:
            arrow = None
        if arrow is None or has_repeated_names(content, arrow):
            arrow, self._mixed = read_line_by_line(content, self.path)
        texts = [
            name for name in arrow.column_names
            if pa.types.is_timestamp(arrow.column(name).type) and self._is_text(name)
        ]  # fmt: skip
        if texts:  # the fast parser converts any text that looks like a time
            schema = pa.schema([(name, pa.string()) for name in texts])
            retyped = pa.json.read_json(pa.BufferReader(content), parse_options=pa.json.ParseOptions(schema))
            arrow = retyped.select(arrow.column_names)
        columns = zip(arrow.column_names, arrow.columns, strict=True)
        return pa.table({name: narrow_to_dates(column) for name, column in columns})

    def _read_utf8(self) -> bytes:
        """Return the file's content in UTF-8, the default encoding of JSON."""
        content, encoding = self.path.read_bytes(), self.settings.encoding or "utf-8"
        try:
            text = content.decode(encoding)
        except UnicodeDecodeError as error:
            line = content.count(b"\n", 0, error.start) + 1
            raise FileError(
                f"{self.path.name} has bytes that are not {encoding}.",
                where=f"line {line}, byte {content[error.start : error.start + 1]!r}",
                todo="Correct the byte in a copy; if the whole file has another encoding, add ‹encoding=cp1252›.",
            ) from error
        except LookupError as error:
            raise UsageError(f"Unknown encoding {encoding}.", todo="Use ‹encoding=cp1252›.") from error
        return content if encoding == "utf-8" else text.encode()

    def _is_text(self, name: str) -> bool:
        """Return whether a column is declared as text."""
        found = descriptor.find_beside(self.path)
        described = Dictionary() if found is None or not found.fits else found.resource.make_dictionary()
        return self.settings.all_text or self.settings.get_variable(name, described).type == "string"

    @property
    def _described_names(self) -> list[str]:
        """The names of a file without lines, which only its descriptor knows."""
        found = descriptor.find_beside(self.path)
        if found is None or not found.fits:
            raise FileError(f"{self.path.name} is empty.", todo="Check that it was saved or copied whole.")
        return list(found.resource.names)

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the keys of all objects."""
        return list(self._arrow.column_names), None

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Return the values."""
        arrow = self._arrow if rows is None else self._arrow.slice(rows.start, max(rows.stop - rows.start, 0))
        columns, notes = columns_from_arrow(arrow, names, self.settings, self.described.dictionary, self.path.name)
        if any(column.type == "datetime" for column in columns.values()) and WITH_OFFSET.search(self.path.read_bytes()):
            notes.append(Note("timestamps with an offset were converted to UTC.", kind="offset"))
        for name in self._mixed:
            if name in columns and self.settings.get_variable(name, self.described.dictionary).type is None:
                notes.append(Note("kept as text: its cells are of several kinds.", name, kind="stray-text"))
        return Cells(columns, notes)


def needs_slow_parser(content: bytes) -> bool:
    """Return whether a line does not begin with a brace, or a number is too long for the fast parser."""
    return NOT_AN_OBJECT.search(content) is not None or LONG_NUMBER.search(content) is not None


def has_repeated_names(content: bytes, arrow: pa.Table) -> bool:
    """Return whether an object may repeat a name, of which the fast parser keeps one."""
    for name, column in zip(arrow.column_names, arrow.columns, strict=True):
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


def read_line_by_line(content: bytes, path: Path) -> tuple[pa.Table, tuple[str, ...]]:
    """Read what the fast parser refused: cells of several kinds become text.

    Return the table, and the columns of several kinds.

    Raises FileError for the first line that is not a JSON object.
    """
    rows = []
    for number, line in enumerate(content.splitlines(), start=1):
        if not line.strip():
            continue
        try:
            row = json.loads(
                line, object_pairs_hook=make_object, parse_constant=refuse_constant, parse_float=parse_decimal
            )
        except ValueError as error:
            raise FileError(
                f"Line {number} of {path.name} is not valid JSON.",
                where=str(error),
                todo="Correct it in a copy of the file.",
            ) from error
        if not isinstance(row, dict):
            raise FileError(f"Line {number} of {path.name} is not an object.", todo="Each line must be {...}, one row.")
        rows.append(row)
    names = list(dict.fromkeys(name for row in rows for name in row))
    columns = {name: [row.get(name) for row in rows] for name in names}
    nested = next(
        (name for name, cells in columns.items() if any(isinstance(cell, dict | list) for cell in cells)), None
    )
    if nested is not None:
        raise FileError(
            f"The column {nested} of {path.name} holds lists or objects.", todo="Give each part its own key."
        )
    kinds = {name: {type(cell) for cell in cells if cell is not None} for name, cells in columns.items()}
    mixed_names = tuple(name for name, types in kinds.items() if len(types) > 1 and types != {int, float})
    return pa.table({name: make_array(cells) for name, cells in columns.items()}), mixed_names


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


def narrow_to_dates(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Convert timestamps that are all at midnight to dates, which JSON lacks."""
    if not pa.types.is_timestamp(column.type):
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
        form = ArrowForm.from_table(content, packs=False)
        with part.open("wb") as file:
            for batch in form.to_arrow().to_batches(max_chunksize=PART):
                parts: list[pa.Array | str] = []
                for index, (name, column) in enumerate(zip(batch.schema.names, batch.columns, strict=True)):
                    parts.append(("{" if index == 0 else ", ") + json.dumps(name, ensure_ascii=False) + ": ")
                    parts.append(format_json(column))
                lines = pc.binary_join_element_wise(*parts, "}\n", "", null_handling="skip")
                file.write("".join(lines.to_pylist()).encode())
        return self.make_descriptor(part, form.make_descriptor())


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
