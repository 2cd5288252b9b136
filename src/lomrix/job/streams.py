"""Standard input and output as a task sees them."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from lomrix.core.errors import UsageError
from lomrix.core.table.table import Table
from lomrix.files.delivered import codes_in, require_distinct_signs
from lomrix.files.interface import Place, Placed
from lomrix.files.missing import missing_of
from lomrix.files.missing_words import InCells
from lomrix.files.staging import FileSink, guarded
from lomrix.files.text_writer import write_columns

STREAM = "-"


@dataclass(frozen=True)
class Streams:
    """Where standard input comes from and standard output goes to, as bytes."""

    stdin: IO[bytes]
    stdout: IO[bytes]


@dataclass
class StreamSink(FileSink):
    """Comma-separated text on standard output, made whole before its first byte goes out.

    Parameters
    ----------
    stream
        Where it goes.
    in_cells
        What stands in missing cells whose reason has no code.
    """

    stream: IO[bytes] | None = None
    in_cells: InCells = "empty"

    @property
    def places(self) -> tuple[Place, ...]:
        """None."""
        return ()

    def check(self) -> None:
        """Stop where what was asked for wants a file, or two signs that it has only one of."""
        if self.delivery.form not in (None, "headed"):
            raise UsageError(f"A {self.delivery.form} file goes to a file.", todo="Say ‹to=model.dat›.")
        require_distinct_signs(self.path, self.delivery)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        texts = {
            name: missing_of(column, content.dictionary.of(name), self.in_cells, with_runs=False).texts
            for name, column in content.columns.items()
        }
        form, codes = self.delivery.text, codes_in(self.prepared) if self.prepared is not None else {}
        write_columns(content.columns, texts, part, form.delimiter or ",", form=form, codes=codes, hashed=False)
        return {}

    def verify(self, table: Table) -> int:
        """What has gone out cannot be read again."""
        return 0

    def commit(self) -> tuple[Placed, ...]:
        """Let it go out; a reader that goes away early has that right."""
        assert self.stream is not None
        stream = self.stream

        def copy() -> None:
            with self.staged.open("rb") as file, contextlib.suppress(BrokenPipeError):
                shutil.copyfileobj(file, stream)
                stream.flush()

        guarded(Path("standard output"), "write", copy)
        self.discard()
        return ()
