"""Parquet: columnar files that carry their types, with the descriptor in their metadata."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import REASON_COLUMN, ArrowForm
from lomrix.files.arrow_tables import columns_in, metadata_of, table_of
from lomrix.files.read import Read, ReadSettings

# Rows in a row group.
PART = 1 << 18
# From this many rows on, a look at how texts repeat pays.
LARGE = 10_000


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read a Parquet file.

    Raises
    ------
    FileError
        Where it is no Parquet file, or a column holds what a table of cells cannot.
    """
    try:
        file = pq.ParquetFile(path, memory_map=True, pre_buffer=True)
        names = file.schema_arrow.names
        needed = set(settings.names_needed(names))
        reasons = {name + REASON_COLUMN for name in needed}
        arrow = file.read([name for name in names if name in needed or name in reasons])
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
    form = ArrowForm.of(table)
    with ThreadPoolExecutor(1) as worker:
        # While one part is written the next one is made, and only two of them are in memory.
        following = worker.submit(form.part, 0, PART)
        schema = following.result().schema.with_metadata(metadata_of(form, final, key))
        encoded = [name for name in schema.names if repeats(table, name)]
        with pq.ParquetWriter(path, schema, use_dictionary=encoded) as writer:
            for start in range(0, max(len(table), 1), PART):
                part = following.result()
                following = worker.submit(form.part, start + PART, start + 2 * PART)
                writer.write_table(part.replace_schema_metadata(schema.metadata), row_group_size=PART)
    return {}


def repeats(table: Table, name: str) -> bool:
    """False for texts that are nearly all different: a dictionary of them would be tried and thrown away."""
    column = table.columns.get(name)
    return column is None or column.type != "string" or len(column) < LARGE or column.strings.seems_repetitive()
