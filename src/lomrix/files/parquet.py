"""Parquet files, with the descriptor in their metadata."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ArrowForm, ArrowSource, make_read_error
from lomrix.files.staging import FileSink

# Rows in a row group.
PART = 1 << 18
# From this many rows on it pays to sample how often texts repeat.
LARGE, SAMPLE = 10_000, 512


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
            groups: list[int] = []
            first = position = 0
            for number in range(file.num_row_groups):
                count = file.metadata.row_group(number).num_rows
                if position < rows.stop and position + count > rows.start:
                    first = position if not groups else first
                    groups.append(number)
                position += count
            table = require_utf8(file.read_row_groups(groups, list(names)))
            return table.slice(max(rows.start - first, 0), max(rows.stop - rows.start, 0))

        return self._open(take_part)

    def iterate_arrow(self, names: Sequence[str], size: int) -> Iterator[pa.Table]:
        """Yield some columns as pyarrow Tables of `size` rows."""
        try:
            with pq.ParquetFile(self.path, memory_map=False) as file:
                if not file.metadata.num_rows:
                    yield file.schema_arrow.empty_table().select(list(names))
                for batch in file.iter_batches(size, columns=list(names)):
                    yield require_utf8(pa.Table.from_batches([batch]))
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
        with ThreadPoolExecutor(1) as worker:
            # While one part is written the next is prepared; only two are in memory.
            following = worker.submit(form.slice, 0, PART)
            schema = following.result().schema.with_metadata(form.make_metadata(self.path))
            encoded = [name for name in schema.names if is_repetitive(content, name)]
            with pq.ParquetWriter(part, schema, use_dictionary=encoded) as writer:
                for start in range(0, max(len(content), 1), PART):
                    part_table = following.result()
                    following = worker.submit(form.slice, start + PART, start + 2 * PART)
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
