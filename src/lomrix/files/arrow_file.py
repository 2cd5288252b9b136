"""Arrow files, with the descriptor in their metadata."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import pyarrow as pa
import pyarrow.ipc

from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ROWS_AT_ONCE, ArrowForm, ArrowSource, make_read_error
from lomrix.files.file_source import Cells
from lomrix.files.staging import FileSink

# Rows in a batch.
PART = 1 << 18
# Rows that are converted at once.
AT_ONCE = 4 * PART

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

    def list_pieces(self) -> list[range]:
        """List some batches at a time; one that is larger than a part is a piece of its own."""
        batches, rows = self._open(lambda file: (int(file.num_record_batches), int(file.count_rows())))
        at_once = max(batches * ROWS_AT_ONCE // max(rows, 1), 1)
        return [range(start, min(start + at_once, batches)) for start in range(0, batches, at_once)]

    def read_piece(self, piece: range, names: Sequence[str]) -> Cells:
        """Return the cells of some columns of some batches."""
        needed = self.add_packed(names)
        positions = [self.schema().get_field_index(name) for name in needed]

        def take_batches(file: pa.ipc.RecordBatchFileReader) -> pa.Table:
            table = pa.Table.from_batches([file.get_batch(number) for number in piece])
            table.validate(full=True)
            return table

        return self.convert(self._open(take_batches, pa.ipc.IpcReadOptions(included_fields=positions)), names)

    def estimate_rows(self) -> int:
        """Return the number of rows."""
        return self._open(lambda file: int(file.count_rows()))

    def _open(
        self, action: Callable[[pa.ipc.RecordBatchFileReader], ResultType], options: pa.ipc.IpcReadOptions | None = None
    ) -> ResultType:
        try:
            # Not memory-mapped: a file truncated while it is read would crash the program.
            with pa.OSFile(str(self.path), "rb") as source:
                return action(pa.ipc.open_file(source, options=options))
        except pa.ArrowException as error:
            raise make_read_error(self.path, "Arrow", error) from error


@dataclass
class Writer(FileSink):
    """An Arrow file with the descriptor in its metadata."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        form = ArrowForm.from_table(content)
        schema = form.slice(0, PART).schema.with_metadata(form.make_metadata(self.path))
        with pa.OSFile(str(part), "wb") as sink, pa.ipc.new_file(sink, schema) as writer:
            for start in range(0, len(content), AT_ONCE):
                writer.write_table(form.slice(start, start + AT_ONCE).replace_schema_metadata(schema.metadata), PART)
        return {}
