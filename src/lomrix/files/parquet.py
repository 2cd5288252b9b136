"""Parquet: columnar files that carry their types, with the descriptor in their metadata."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ArrowForm, ArrowSource, unreadable
from lomrix.files.staging import FileSink

# Rows in a row group.
PART = 1 << 18
# From this many rows on, a look at how texts repeat pays.
LARGE = 10_000


Found = TypeVar("Found")


class Reader(ArrowSource):
    """A Parquet file."""

    def schema(self) -> pa.Schema:
        """Its schema."""
        return self._opened(lambda file: file.schema_arrow)

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Some columns and rows; of the rows only the groups that hold some of them are read."""

        def taken(file: pq.ParquetFile) -> pa.Table:
            if rows is None:
                return valid(file.read(list(names)))
            groups: list[int] = []
            first = at = 0
            for number in range(file.num_row_groups):
                count = file.metadata.row_group(number).num_rows
                if at < rows.stop and at + count > rows.start:
                    first = at if not groups else first
                    groups.append(number)
                at += count
            table = valid(file.read_row_groups(groups, list(names)))
            return table.slice(max(rows.start - first, 0), max(rows.stop - rows.start, 0))

        return self._opened(taken)

    def _opened(self, action: Callable[[pq.ParquetFile], Found]) -> Found:
        try:
            return action(pq.ParquetFile(self.path, memory_map=False, pre_buffer=True))
        except pa.ArrowException as error:
            raise unreadable(self.path, "Parquet", error) from error


def valid(table: pa.Table) -> pa.Table:
    """A table whose texts are UTF-8; Parquet takes any bytes for text."""
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
    """A Parquet file, the descriptor in its metadata."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table, part after part."""
        assert isinstance(content, Table)
        form = ArrowForm.of(content)
        with ThreadPoolExecutor(1) as worker:
            # While one part is written the next one is made, and only two of them are in memory.
            following = worker.submit(form.part, 0, PART)
            schema = following.result().schema.with_metadata(form.metadata(self.path))
            encoded = [name for name in schema.names if repeats(content, name)]
            with pq.ParquetWriter(part, schema, use_dictionary=encoded) as writer:
                for start in range(0, max(len(content), 1), PART):
                    made = following.result()
                    following = worker.submit(form.part, start + PART, start + 2 * PART)
                    writer.write_table(made.replace_schema_metadata(schema.metadata), row_group_size=PART)
        return {}


def repeats(table: Table, name: str) -> bool:
    """False for texts that are nearly all different: a dictionary of them would be tried and thrown away."""
    column = table.columns.get(name)
    return column is None or column.type != "string" or len(column) < LARGE or column.strings.seems_repetitive()
