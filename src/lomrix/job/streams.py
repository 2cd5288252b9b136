"""Standard input and output as a task uses them."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from lomrix.core.errors import UsageError
from lomrix.core.table.table import Table
from lomrix.files.delivered import list_codes, require_distinct_separators
from lomrix.files.interface import Location, StoredOutput
from lomrix.files.missing import InCells, plan_missing
from lomrix.files.staging import FileSink, guard
from lomrix.files.text_writer import write_columns

STREAM = "-"


@dataclass(frozen=True)
class Streams:
    """Standard input and output as bytes."""

    stdin: IO[bytes]
    stdout: IO[bytes]


@dataclass
class StreamSink(FileSink):
    """Comma-separated text on standard output, complete before its first byte is sent."""

    stream: IO[bytes] | None = None
    in_cells: InCells = "empty"

    @property
    def locations(self) -> tuple[Location, ...]:
        """None."""
        return ()

    def check(self) -> None:
        """Refuse formats that need a file, and separators that are the same."""
        if self.delivery.form not in (None, "headed"):
            raise UsageError(f"A {self.delivery.form} file cannot go to standard output.", todo="Use ‹to=model.dat›.")
        require_distinct_separators(self.path, self.delivery)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        texts = {
            name: plan_missing(column, content.dictionary.of(name), self.in_cells, with_runs=False).texts
            for name, column in content.columns.items()
        }
        form, codes = self.delivery.text, list_codes(self.prepared) if self.prepared is not None else {}
        write_columns(content.columns, texts, part, form.delimiter or ",", form=form, codes=codes, hashed=False)
        return {}

    def verify(self, table: Table) -> int:
        """Return 0: a stream cannot be read again."""
        return 0

    def commit(self) -> tuple[StoredOutput, ...]:
        """Send the text; a reader may close the pipe early."""
        assert self.stream is not None
        stream = self.stream

        def send() -> None:
            with self.staged.open("rb") as file, contextlib.suppress(BrokenPipeError):
                shutil.copyfileobj(file, stream)
                stream.flush()

        guard(Path("standard output"), "write", send)
        self.discard()
        return ()
