"""Parquet: columnar files that carry their types, with the descriptor in their metadata."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import METADATA, REASON_COLUMN, columns_from_arrow, table_to_arrow
from lomrix.files.read import Read, ReadSettings


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read a Parquet file.

    Raises
    ------
    FileError
        Where it is no Parquet file, or a column holds what a table of cells cannot.
    """
    try:
        file = pq.ParquetFile(path, memory_map=True)
        names = file.schema_arrow.names
        needed = settings.names_needed(names)
        reasons = {name + REASON_COLUMN for name in needed}
        arrow = file.read([name for name in names if name in set(needed) or name in reasons])
    except pa.ArrowException as error:
        raise FileError(
            f"{path.name} cannot be read as Parquet.",
            where=descriptor.first_line(error),
            todo="Check that it was copied whole and has its own extension.",
        ) from error
    resource = resource_in(arrow.schema.metadata, path)
    beside = Dictionary() if resource is None else resource.dictionary()
    null_reasons = {} if resource is None else resource.null_reasons
    columns, notes = columns_from_arrow(arrow, settings, beside, null_reasons, path.name)
    history = () if resource is None else resource.history
    dictionary = settings.dictionary.for_columns(columns).joined(beside).without_tokens()
    return Read(Table(columns, dictionary, history, path.stem), tuple(notes))


def resource_in(metadata: Mapping[bytes, bytes] | None, path: Path) -> descriptor.Resource | None:
    """The descriptor in a file's metadata; None where the file was not written by Lomrix."""
    text = (metadata or {}).get(METADATA)
    if text is None:
        return None
    try:
        return descriptor.Resource.model_validate_json(text)
    except ValidationError as error:
        raise FileError(
            f"The metadata of {path.name} cannot be understood.", where=descriptor.first_line(error)
        ) from error


def write_table(table: Table, path: Path, final: Path, key: list[str]) -> dict[Path, bytes]:
    """Write a table as Parquet, the descriptor in its metadata.

    Parameters
    ----------
    table
        What to write.
    path
        Where to write it for now.
    final
        Where it will stand.
    key
        Columns named as the primary key.

    Returns
    -------
    Nothing that belongs beside it.
    """
    arrow, tokens = table_to_arrow(table)
    content = descriptor.descriptor(table, tokens, key)
    for field in content["schema"]["fields"]:
        if field["name"] + REASON_COLUMN in arrow.column_names:
            field["lomrix:reasons"] = field["name"] + REASON_COLUMN
    whole = {"name": final.stem.lower().replace(" ", "-"), "path": final.name, **content}
    arrow = arrow.replace_schema_metadata({METADATA: json.dumps(whole, ensure_ascii=False).encode()})
    pq.write_table(arrow, path)
    return {}
