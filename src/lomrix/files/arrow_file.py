"""Arrow: the columnar interchange format as a file, with the descriptor in its metadata."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import pyarrow as pa
import pyarrow.ipc

from lomrix.core.table.table import Table
from lomrix.files.arrow_form import ArrowForm, ArrowSource, unreadable
from lomrix.files.staging import FileSink

Found = TypeVar("Found")


class Reader(ArrowSource):
    """An Arrow file."""

    def schema(self) -> pa.Schema:
        """Its schema."""
        return self._opened(lambda file: file.schema)

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Some columns and rows, which stay in the file until they are looked at."""

        def taken(file: pa.ipc.RecordBatchFileReader) -> pa.Table:
            table = file.read_all().select(list(names))
            table.validate(full=True)  # what is damaged would end the process later
            return table if rows is None else table.slice(rows.start, max(rows.stop - rows.start, 0))

        return self._opened(taken)

    def _opened(self, action: Callable[[pa.ipc.RecordBatchFileReader], Found]) -> Found:
        try:
            # Not mapped into memory: a file that is cut while it is read would end the program.
            with pa.OSFile(str(self.path), "rb") as source:
                return action(pa.ipc.open_file(source))
        except pa.ArrowException as error:
            raise unreadable(self.path, "Arrow", error) from error


@dataclass
class Writer(FileSink):
    """An Arrow file, the descriptor in its metadata."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        form = ArrowForm.of(content)
        arrow = form.whole().replace_schema_metadata(form.metadata(self.path))
        with pa.OSFile(str(part), "wb") as sink, pa.ipc.new_file(sink, arrow.schema) as writer:
            writer.write_table(arrow)
        return {}
