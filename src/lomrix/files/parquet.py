"""Parquet files, with the descriptor in their metadata."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.arrays.threads import run_ahead
from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ROWS_AT_ONCE, ArrowForm, ArrowSource, make_read_error
from lomrix.files.file_source import Cells
from lomrix.files.staging import FileSink

# Rows in a row group.
PART = 1 << 18
# From this many rows on it pays to sample how often texts repeat.
LARGE, SAMPLE = 10_000, 512
# Rows of a row group that can be read at once.
MOST_ROWS = 2 * ROWS_AT_ONCE


ResultType = TypeVar("ResultType")


class Reader(ArrowSource):
    """A Parquet file."""

    def schema(self) -> pa.Schema:
        """Return the schema."""
        return self._open(lambda file: file.schema_arrow)

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Read some columns and rows; of the rows only the needed row groups."""

        def take_part(file: pq.ParquetFile) -> pa.Table:
            if rows is None:
                return require_utf8(file.read(list(names)))
            bounds = itertools.pairwise([0, *find_group_ends(file)])
            groups = {n: start for n, (start, stop) in enumerate(bounds) if start < rows.stop and stop > rows.start}
            first = next(iter(groups.values()), 0)
            table = require_utf8(file.read_row_groups(list(groups), list(names)))
            return table.slice(max(rows.start - first, 0), max(rows.stop - rows.start, 0))

        return self._open(take_part)

    def list_pieces(self) -> list[range]:
        """List the rows of some row groups at a time; none if there is a group that is much larger than a part."""
        ends = list(self._open(find_group_ends))
        groups = list(itertools.pairwise([0, *ends]))
        if not ends or max(stop - start for start, stop in groups) > MOST_ROWS:
            return []
        parts = itertools.groupby(groups, lambda group: group[0] // ROWS_AT_ONCE)
        pieces = [list(part) for _, part in parts]
        return [range(piece[0][0], piece[-1][1]) for piece in pieces]

    def read_in_sequence(self, names: Sequence[str]) -> Iterator[Cells]:
        """Yield the cells of some columns some rows at a time."""
        needed = self.add_packed(names)
        try:
            with pq.ParquetFile(self.path, memory_map=False) as file:
                if not file.metadata.num_rows:
                    yield self.convert(file.schema_arrow.empty_table().select(needed), names)
                for batch in file.iter_batches(ROWS_AT_ONCE, columns=needed):
                    yield self.convert(require_utf8(pa.Table.from_batches([batch])), names)
        except pa.ArrowException as error:
            raise make_read_error(self.path, "Parquet", error) from error

    def estimate_rows(self) -> int:
        """Return the number of rows."""
        return self._open(lambda file: int(file.metadata.num_rows))

    def _open(self, action: Callable[[pq.ParquetFile], ResultType]) -> ResultType:
        try:
            return action(pq.ParquetFile(self.path, memory_map=False, pre_buffer=True))
        except pa.ArrowException as error:
            raise make_read_error(self.path, "Parquet", error) from error


def find_group_ends(file: pq.ParquetFile) -> Iterator[int]:
    """Return the row after each row group."""
    return itertools.accumulate(file.metadata.row_group(number).num_rows for number in range(file.num_row_groups))


def require_utf8(table: pa.Table) -> pa.Table:
    """Validate that texts are UTF-8; Parquet accepts any bytes as text."""
    for column in table.columns:
        if (
            pa.types.is_string(column.type)
            or pa.types.is_large_string(column.type)
            or pa.types.is_dictionary(column.type)
        ):
            column.validate(full=True)
    return table


@dataclass
class Writer(FileSink):
    """A Parquet file with the descriptor in its metadata."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table, part after part."""
        assert isinstance(content, Table)
        form = ArrowForm.from_table(content)
        # While one part is written the next is prepared; only two are in memory.
        parts = run_ahead(form.slice, ((start, start + PART) for start in range(0, max(len(content), 1), PART)), 1)
        part_table = next(parts)
        schema = part_table.schema.with_metadata(form.make_metadata(self.path))
        encoded = [name for name in schema.names if is_repetitive(content, name)]
        with contextlib.closing(parts), pq.ParquetWriter(part, schema, use_dictionary=encoded) as writer:
            writer.write_table(part_table.replace_schema_metadata(schema.metadata), row_group_size=PART)
            for part_table in parts:
                writer.write_table(part_table.replace_schema_metadata(schema.metadata), row_group_size=PART)
        return {}


def is_repetitive(table: Table, name: str) -> bool:
    """Return False for texts that are nearly all distinct, for which a dictionary would be wasted; by a sample of the
    cells, so that equal tables give equal bytes however they are in memory.
    """
    column = table.columns.get(name)
    if column is None or column.type != "string" or len(column) < LARGE:
        return True
    sample = column.take(np.arange(0, len(column), max(len(column) // SAMPLE, 1))).to_text()
    return len(sample.unique()) <= len(sample) // 2
