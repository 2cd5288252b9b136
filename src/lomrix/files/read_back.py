"""Read back: what was exported is read again and compared cell by cell before success is reported."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.text_layout import has_quotes
from lomrix.files.text_writer import delimiter_of

REPORT = "This is a bug in Lomrix; please report it."


def compared_with_file(table: Table, path: Path, final: Path, *, header: bool) -> int:
    """Read a delimited file and compare it with the table that was written to it.

    Parameters
    ----------
    table
        What was written.
    path
        The file.
    final
        Where the file will stand; its extension decides the delimiter.
    header
        Whether the file has a header.

    Returns
    -------
    Number of cells that were compared.

    Raises
    ------
    FileError
        Naming the first cell that did not come back.
    """
    names = table.names
    if not len(table):
        return 0
    expected = {name: readable(column) for name, column in table.columns.items()}
    read = pacsv.read_csv(
        path,
        pacsv.ReadOptions(column_names=names, skip_rows_after_names=int(header), block_size=1 << 23),
        pacsv.ParseOptions(
            delimiter=delimiter_of(final), newlines_in_values=has_quotes(path), ignore_empty_lines=len(names) > 1
        ),
        pacsv.ConvertOptions(
            column_types={name: array.type for name, array in expected.items()},
            null_values=[""],
            strings_can_be_null=True,
            true_values=["true"],
            false_values=["false"],
        ),
    )
    if read.num_rows != len(table):
        raise FileError(
            f"{final} was not written: {len(table):,} rows went out, {read.num_rows:,} came back.", todo=REPORT
        )
    for name, array in expected.items():
        back = read.column(name)
        if not back.equals(pa.chunked_array([array])):
            raise FileError(
                f"{final} was not written: the column {name} did not come back as it went out.",
                where=first_difference(array, back),
                todo=REPORT,
            )
    return len(table) * len(names)


def readable(column: Column) -> pa.Array:
    """The column as an Arrow array of the type that it is read back as."""
    array = column.to_arrow()
    if column.type == "datetime":
        return array.cast(pa.timestamp("us"))
    return array


def first_difference(expected: pa.Array, back: pa.ChunkedArray) -> str:
    """The first cell that differs, in words."""
    start = 0
    for chunk in back.chunks:
        part = expected.slice(start, len(chunk))
        if not part.equals(chunk):
            cells = enumerate(zip(part.to_pylist(), chunk.to_pylist(), strict=True), start=start + 1)
            return next(
                (f"data row {row}: {one!r} came back as {two!r}" for row, (one, two) in cells if one != two), ""
            )
        start += len(chunk)
    return ""
