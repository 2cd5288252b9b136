"""Arrow files, with the descriptor in their metadata."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import pyarrow as pa
import pyarrow.ipc

from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ArrowForm, ArrowSource, make_read_error
from lomrix.files.staging import FileSink

# Rows in a batch.
PART = 1 << 18

ResultType = TypeVar("ResultType")


class Reader(ArrowSource):
    """An Arrow file."""

    def schema(self) -> pa.Schema:
        """Return the schema."""
        return self._open(lambda file: file.schema)

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Read some columns and rows."""

        def take_part(file: pa.ipc.RecordBatchFileReader) -> pa.Table:
            table = file.read_all().select(list(names))
            table.validate(full=True)  # damaged data would crash the process later
            return table if rows is None else table.slice(rows.start, max(rows.stop - rows.start, 0))

        return self._open(take_part)

    def iterate_arrow(self, names: Sequence[str], size: int) -> Iterator[pa.Table]:
        """Yield some columns as pyarrow Tables, one for each batch of the file."""
        try:
            with pa.OSFile(str(self.path), "rb") as source:
                positions = [self.schema().get_field_index(name) for name in names]
                file = pa.ipc.open_file(source, options=pa.ipc.IpcReadOptions(included_fields=positions))
                for number in range(file.num_record_batches):
                    table = pa.Table.from_batches([file.get_batch(number)])
                    table.validate(full=True)
                    yield table
                if not file.num_record_batches:
                    yield file.schema.empty_table()
        except pa.ArrowException as error:
            raise make_read_error(self.path, "Arrow", error) from error

    def estimate_rows(self) -> int:
        """Return the number of rows."""
        return self._open(lambda file: int(file.count_rows()))

    def _open(self, action: Callable[[pa.ipc.RecordBatchFileReader], ResultType]) -> ResultType:
        try:
            # Not memory-mapped: a file truncated while it is read would crash the program.
            with pa.OSFile(str(self.path), "rb") as source:
                return action(pa.ipc.open_file(source))
        except pa.ArrowException as error:
            raise make_read_error(self.path, "Arrow", error) from error


@dataclass
class Writer(FileSink):
    """An Arrow file with the descriptor in its metadata."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        form = ArrowForm.from_table(content)
        arrow = form.to_arrow().replace_schema_metadata(form.make_metadata(self.path))
        with pa.OSFile(str(part), "wb") as sink, pa.ipc.new_file(sink, arrow.schema) as writer:
            writer.write_table(arrow, PART)
        return {}
