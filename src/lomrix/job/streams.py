"""Standard input and output as a task sees them."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from lomrix.core.table.table import Table
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
        """Nothing stands against it yet."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        texts = {
            name: missing_of(column, content.dictionary.of(name), self.in_cells, with_runs=False).texts
            for name, column in content.columns.items()
        }
        write_columns(content.columns, texts, part, ",")
        return {}

    def commit(self) -> tuple[Placed, ...]:
        """Let it go out; a reader that goes away early has that right."""
        assert self.stream is not None
        stream = self.stream

        def copy() -> None:
            with self.staged.open("rb") as file:
                shutil.copyfileobj(file, stream)
            stream.flush()

        with contextlib.suppress(BrokenPipeError):
            guarded(Path("standard output"), "write", copy)
        self.discard()
        return ()
