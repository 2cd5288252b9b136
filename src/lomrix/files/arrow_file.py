"""Arrow: the columnar interchange format as a file, with the descriptor in its metadata."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.ipc

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import REASON_COLUMN, ArrowForm
from lomrix.files.arrow_tables import columns_in, metadata_of, table_of
from lomrix.files.read import Read, ReadSettings


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read an Arrow file.

    Raises
    ------
    FileError
        Where it is no Arrow file, or a column holds what a table of cells cannot.
    """
    try:
        with pa.memory_map(str(path)) as source:
            file = pa.ipc.open_file(source)
            names = file.schema.names
            needed = set(settings.names_needed(names))
            reasons = {name + REASON_COLUMN for name in needed}
            arrow = file.read_all().select([name for name in names if name in needed or name in reasons])
    except pa.ArrowException as error:
        raise FileError(
            f"{path.name} cannot be read as Arrow.",
            where=descriptor.first_line(error),
            todo="Check that it was copied whole and has its own extension.",
        ) from error
    return table_of(arrow, settings, path, names=columns_in(names))


def write_table(table: Table, path: Path, final: Path, key: list[str]) -> dict[Path, bytes]:
    """Write an Arrow file to `path`, the descriptor in its metadata; nothing belongs beside it."""
    form = ArrowForm.of(table)
    arrow = form.whole().replace_schema_metadata(metadata_of(form, final, key))
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, arrow.schema) as writer:
        writer.write_table(arrow)
    return {}
