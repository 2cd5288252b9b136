"""JSON Lines: one object a row."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.json

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import ArrowForm
from lomrix.files.arrow_tables import descriptor_of, table_of
from lomrix.files.read import Read, ReadSettings

PART = 1 << 16


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read a file of JSON Lines.

    Raises
    ------
    FileError
        Naming the line that is no JSON object, or the column whose cells are not of one kind.
    """
    if not path.stat().st_size:
        raise FileError(f"{path.name} is empty.", todo="Check that it was saved or copied whole.")
    try:
        arrow = pa.json.read_json(path)
    except pa.ArrowException as error:
        arrow = read_line_by_line(path, error)
    needed = settings.names_needed(arrow.column_names)
    arrow = pa.table({name: whole_days(column) for name, column in zip(arrow.column_names, arrow.columns, strict=True)})
    resource = descriptor.found_beside(path)
    extra = [name for name in arrow.column_names if resource is not None and name.removesuffix(".reason") in needed]
    return table_of(arrow.select(list(dict.fromkeys([*needed, *extra]))), settings, path, resource)


def read_line_by_line(path: Path, error: Exception) -> Any:
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


def mixed(cells: list[Any]) -> Any:
    """Cells of several kinds as an Arrow array, as text where they have no kind in common."""
    try:
        return pa.array(cells)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.array([None if one is None else one if isinstance(one, str) else json.dumps(one) for one in cells])


def whole_days(column: Any) -> Any:
    """Moments that are all at midnight as dates: JSON has no dates of its own."""
    if not pa.types.is_timestamp(column.type):
        return column
    moments = column.cast(pa.timestamp("s"), safe=False).cast(pa.int64()).drop_null()
    whole = not (moments.to_numpy() % 86_400).any()
    return column.cast(pa.date32()) if whole else column


def write_table(table: Table, path: Path, final: Path, key: list[str]) -> dict[Path, bytes]:
    """Write JSON Lines to `path`, missing cells as null; the descriptor will stand beside `final`."""
    form = ArrowForm.of(table)
    arrow, content = form.whole(), descriptor_of(form, key)
    with path.open("wb") as file:
        for batch in arrow.to_batches(max_chunksize=PART):
            parts: list[Any] = []
            for place, (name, column) in enumerate(zip(batch.schema.names, batch.columns, strict=True)):
                parts.append(("{" if place == 0 else ", ") + json.dumps(name, ensure_ascii=False) + ": ")
                parts.append(json_texts(column))
            lines = pc.binary_join_element_wise(*parts, "}\n", "", null_handling="skip")
            file.write("".join(lines.to_pylist()).encode())
    digest, size = descriptor.file_hash(path), path.stat().st_size
    return {descriptor.descriptor_path(final): descriptor.descriptor_bytes(final, size, digest, content)}


def json_texts(column: Any) -> Any:
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
