"""JSON Lines: one object a row."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import columns_from_arrow
from lomrix.files.arrow_form import ArrowForm
from lomrix.files.described_sink import DescribedSink
from lomrix.files.file_source import Cells, FileSource

PART = 1 << 16


class Reader(FileSource):
    """A file of JSON Lines; its names are known only when all lines were read."""

    @cached_property
    def _arrow(self) -> pa.Table:
        if not self.path.stat().st_size:
            raise FileError(f"{self.path.name} is empty.", todo="Check that it was saved or copied whole.")
        try:
            arrow = pa.json.read_json(self.path)
        except pa.ArrowException as error:
            arrow = read_line_by_line(self.path, error)
        columns = zip(arrow.column_names, arrow.columns, strict=True)
        return pa.table({name: whole_days(column) for name, column in columns})

    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The keys of all objects."""
        return list(self._arrow.column_names), None

    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """The values."""
        arrow = self._arrow if rows is None else self._arrow.slice(rows.start, max(rows.stop - rows.start, 0))
        return Cells(*columns_from_arrow(arrow, names, self.settings, self.described.dictionary, self.path.name))


def read_line_by_line(path: Path, error: Exception) -> pa.Table:
    """What the quick reader refused: cells of several kinds become text; a line that is no object is named.

    Raises
    ------
    FileError
        For the first line that is no JSON object.
    """
    rows = []
    with path.open("rb") as file:
        for number, line in enumerate(file, start=1):
            if not line.strip():
                continue
            try:
                row = json.loads(line)
            except ValueError as problem:
                raise FileError(
                    f"Line {number} of {path.name} is no JSON.",
                    where=str(problem),
                    todo="Mend it in a copy of the file.",
                ) from error
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
    return pa.table({name: mixed(cells) for name, cells in columns.items()})


def mixed(cells: list[object]) -> pa.Array:
    """Cells of several kinds as an Arrow array, as text where they have no kind in common."""
    try:
        return pa.array(cells)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
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
    else:
        return column.cast(pa.string()).fill_null("null")
    places = np.asarray(encoded.indices.fill_null(len(texts)).to_numpy(zero_copy_only=False))
    return pa.array([*texts, "null"], pa.string()).take(pa.array(places))
