"""Read back: what was exported is read again and compared cell by cell before success is reported."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Variable
from lomrix.core.table.from_text import typed_column
from lomrix.core.table.table import Table
from lomrix.files.text_writer import delimiter_of


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
    read = pacsv.read_csv(
        path,
        pacsv.ReadOptions(column_names=names, skip_rows_after_names=int(header)),
        pacsv.ParseOptions(delimiter=delimiter_of(final), newlines_in_values=True, ignore_empty_lines=len(names) > 1),
        pacsv.ConvertOptions(
            column_types={name: pa.large_string() for name in names}, null_values=[""], strings_can_be_null=True
        ),
    )
    if read.num_rows != len(table):
        raise FileError(
            f"{final} was not written: {len(table):,} rows went out, {read.num_rows:,} came back.",
            todo="This is a bug in Lomrix; please report it.",
        )
    for name, column in table.columns.items():
        strings = read.column(name).combine_chunks()
        back, _ = typed_column(name, strings, Variable(type=column.type))
        expected = column.merely_missing()
        if not back.same_as(expected):
            raise FileError(
                f"{final} was not written: the column {name} did not come back as it went out.",
                where=first_difference(expected, back),
                todo="This is a bug in Lomrix; please report it.",
            )
    return len(table) * len(names)


def first_difference(expected: Column, back: Column) -> str:
    """The first cell that differs, in words."""
    if back.type != expected.type:
        return f"{expected.type} came back as {back.type}"
    for row, (one, two) in enumerate(zip(expected.cells(), back.cells(), strict=True), start=1):
        if one != two:
            return f"data row {row}: {one!r} came back as {two!r}"
    return ""
