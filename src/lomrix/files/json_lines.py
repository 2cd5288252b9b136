"""JSON Lines: one object a row."""

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
from lomrix.files.described_sink import DescribedSink
from lomrix.files.file_source import Cells, FileSource

PART = 1 << 16
# Whole numbers up to this are exact as numbers with a fraction too.
EXACT = 2**53
WITH_OFFSET = re.compile(rb':\s*"\d{4}-\d\d-\d\d[T ]\d\d:\d\d[\d:.]*[+-]\d\d:?\d\d"')
NO_OBJECT = re.compile(rb"(?m)^[ \t\r]*[^{\s]")
LONG_NUMBER = re.compile(rb":\s*-?\d{16,}|:\s*-?[\d.]+[eE][+-]?\d{3}|:\s*-?[NI][a-zA-Z]")


class Reader(FileSource):
    """A file of JSON Lines; its names are known only when all lines were read."""

    _mixed: tuple[str, ...] = ()

    @cached_property
    def _arrow(self) -> pa.Table:
        content = self._in_utf8()
        if not content.strip():
            return pa.table({name: pa.nulls(0) for name in self._names_beside})
        try:
            # Lines that are no objects, and numbers that are cut, are nothing that the quick reader stops at.
            arrow = None if needs_care(content) else pa.json.read_json(pa.BufferReader(content))
        except pa.ArrowException:
            arrow = None
        if arrow is None or has_repeated_names(content, arrow):
            arrow, self._mixed = read_line_by_line(content, self.path)
        texts = [
            name for name in arrow.column_names
            if pa.types.is_timestamp(arrow.column(name).type) and self._is_text(name)
        ]  # fmt: skip
        if texts:  # the quick reader takes any text that looks like one for a time
            schema = pa.schema([(name, pa.string()) for name in texts])
            again = pa.json.read_json(pa.BufferReader(content), parse_options=pa.json.ParseOptions(schema))
            arrow = again.select(arrow.column_names)
        columns = zip(arrow.column_names, arrow.columns, strict=True)
        return pa.table({name: whole_days(column) for name, column in columns})

    def _in_utf8(self) -> bytes:
        """The file's content in UTF-8, which is what JSON is written in unless somebody says otherwise."""
        content, encoding = self.path.read_bytes(), self.settings.encoding or "utf-8"
        try:
            text = content.decode(encoding)
        except UnicodeDecodeError as error:
            line = content.count(b"\n", 0, error.start) + 1
            raise FileError(
                f"{self.path.name} has bytes that are not {encoding}.",
                where=f"line {line}, byte {content[error.start : error.start + 1]!r}",
                todo="Mend the byte in a copy; if the whole file is written otherwise, add ‹encoding=cp1252›.",
            ) from error
        except LookupError as error:
            raise UsageError(f"There is no encoding {encoding}.", todo="Say ‹encoding=cp1252›.") from error
        return content if encoding == "utf-8" else text.encode()

    def _is_text(self, name: str) -> bool:
        """True where a column is stated to hold texts."""
        beside = descriptor.find_beside(self.path)
        own = Dictionary() if beside is None or not beside.fits else beside.resource.dictionary()
        return self.settings.all_text or self.settings.variable(name, own).type == "string"

    @property
    def _names_beside(self) -> list[str]:
        """The names of a file without lines, which only its descriptor knows."""
        beside = descriptor.find_beside(self.path)
        if beside is None or not beside.fits:
            raise FileError(f"{self.path.name} is empty.", todo="Check that it was saved or copied whole.")
        return list(beside.resource.names)

    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The keys of all objects."""
        return list(self._arrow.column_names), None

    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """The values."""
        arrow = self._arrow if rows is None else self._arrow.slice(rows.start, max(rows.stop - rows.start, 0))
        columns, notes = columns_from_arrow(arrow, names, self.settings, self.described.dictionary, self.path.name)
        if any(column.type == "datetime" for column in columns.values()) and WITH_OFFSET.search(self.path.read_bytes()):
            notes.append(Note("moments with an offset stand in universal time.", kind="offset"))
        for name in self._mixed:
            if name in columns and self.settings.variable(name, self.described.dictionary).type is None:
                notes.append(Note("stays text: its cells are of several kinds.", name, kind="stray-text"))
        return Cells(columns, notes)


def needs_care(content: bytes) -> bool:
    """True where a line begins with no brace, or a number is too long for the quick reader to keep."""
    return NO_OBJECT.search(content) is not None or LONG_NUMBER.search(content) is not None


def has_repeated_names(content: bytes, arrow: pa.Table) -> bool:
    """True where an object may have a name twice, of which the quick reader takes one."""
    for name, column in zip(arrow.column_names, arrow.columns, strict=True):
        key = re.escape(json.dumps(name, ensure_ascii=False).encode())
        present = len(column) - column.null_count
        if content.count(json.dumps(name, ensure_ascii=False).encode()) <= present:
            continue
        times = len(re.findall(key + rb"\s*:", content)) - len(re.findall(key + rb"\s*:\s*null\b", content))
        if times > present:
            return True
    return False


def without_repeated_names(pairs: list[tuple[str, object]]) -> dict[str, object]:
    """An object as a dict.

    Raises
    ------
    ValueError
        Where a name stands twice.
    """
    row = dict(pairs)
    if len(row) < len(pairs):
        twice = next(name for at, (name, _) in enumerate(pairs) if name in [one for one, _ in pairs[:at]])
        raise ValueError(f"the name {twice} stands twice")
    return row


def no_number(word: str) -> object:
    """Refuse what is no number in JSON.

    Raises
    ------
    ValueError
        Always.
    """
    raise ValueError(f"{word} is no value of JSON")


def number_or_text(text: str) -> float | str:
    """A decimal, or its text where it is too large to be held."""
    value = float(text)
    return value if math.isfinite(value) else text


def read_line_by_line(content: bytes, path: Path) -> tuple[pa.Table, tuple[str, ...]]:
    """What the quick reader refused: cells of several kinds become text; a line that is no object is named.

    Returns
    -------
    The table, and the columns of several kinds.

    Raises
    ------
    FileError
        For the first line that is no JSON object.
    """
    rows = []
    for number, line in enumerate(content.splitlines(), start=1):
        if not line.strip():
            continue
        try:
            row = json.loads(
                line, object_pairs_hook=without_repeated_names, parse_constant=no_number, parse_float=number_or_text
            )
        except ValueError as problem:
            raise FileError(
                f"Line {number} of {path.name} is no JSON.",
                where=str(problem),
                todo="Mend it in a copy of the file.",
            ) from problem
        if not isinstance(row, dict):
            raise FileError(f"Line {number} of {path.name} is no object.", todo="Each line is {...}, one row.")
        rows.append(row)
    names = list(dict.fromkeys(name for row in rows for name in row))
    columns = {name: [row.get(name) for row in rows] for name in names}
    nested = next((name for name, cells in columns.items() if any(isinstance(one, dict | list) for one in cells)), None)
    if nested is not None:
        raise FileError(
            f"The column {nested} of {path.name} holds lists or objects.", todo="Give each part its own key."
        )
    kinds = {name: {type(cell) for cell in cells if cell is not None} for name, cells in columns.items()}
    several = tuple(name for name, found in kinds.items() if len(found) > 1 and found != {int, float})
    return pa.table({name: mixed(cells) for name, cells in columns.items()}), several


def mixed(cells: list[object]) -> pa.Array:
    """Cells of several kinds as an Arrow array, as text where they have no kind in common or a number is too long."""
    try:
        array = pa.array(cells)
        if not pa.types.is_floating(array.type) or not any(isinstance(one, int) and abs(one) > EXACT for one in cells):
            return array
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        pass
    return pa.array([None if one is None else one if isinstance(one, str) else json.dumps(one) for one in cells])


def whole_days(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Moments that are all at midnight as dates: JSON has no dates of its own."""
    if not pa.types.is_timestamp(column.type):
        return column
    moments = column.cast(pa.timestamp("s"), safe=False).cast(pa.int64()).drop_null()
    whole = not (moments.to_numpy() % 86_400).any()
    return column.cast(pa.date32()) if whole else column


@dataclass
class Writer(DescribedSink):
    """JSON Lines, missing cells as null; the descriptor stands beside it."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        form = ArrowForm.of(content, packs=False)
        with part.open("wb") as file:
            for batch in form.whole().to_batches(max_chunksize=PART):
                parts: list[pa.Array | str] = []
                for place, (name, column) in enumerate(zip(batch.schema.names, batch.columns, strict=True)):
                    parts.append(("{" if place == 0 else ", ") + json.dumps(name, ensure_ascii=False) + ": ")
                    parts.append(json_texts(column))
                lines = pc.binary_join_element_wise(*parts, "}\n", "", null_handling="skip")
                file.write("".join(lines.to_pylist()).encode())
        return self.described(part, form.descriptor())


def json_texts(column: pa.Array) -> pa.Array:
    """The cells as JSON, computed once for each distinct text."""
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
        # With a point it is a number with decimals again, and a minus before nought stays.
        whole = pc.match_substring_regex(cells, r"^-?\d+$")
        return pc.if_else(whole, pc.binary_join_element_wise(cells, ".0", ""), cells).fill_null("null")
    else:
        return column.cast(pa.string()).fill_null("null")
    places = np.asarray(encoded.indices.fill_null(len(texts)).to_numpy(zero_copy_only=False))
    return pa.array([*texts, "null"], pa.string()).take(pa.array(places))
