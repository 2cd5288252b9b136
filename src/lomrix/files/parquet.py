"""Parquet: columnar files that carry their types, with the descriptor in their metadata."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import REASON_COLUMN
from lomrix.files.arrow_tables import arrow_with_descriptor, columns_in, table_of
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
    return table_of(arrow, settings, path, names=columns_in(names))


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
    pq.write_table(arrow_with_descriptor(table, final, key), path)
    return {}
