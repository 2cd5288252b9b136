"""Surroundings: what the program sees of the world, passed in, so that it can be run inside another program."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from typing import IO, TYPE_CHECKING, TextIO, cast

from lomrix.cli.report_stream import ReportStream, open_closed_streams

if TYPE_CHECKING:
    from lomrix.job.streams import Streams
    from lomrix.show.terminal import Screen


@dataclass(frozen=True)
class Surroundings:
    """Arguments and streams of one run.

    Parameters
    ----------
    arguments
        The words behind the program's name.
    stdin
        Standard input, as bytes.
    stdout, stderr
        Where a person or a script reads.
    stdout_bytes
        Standard output, as bytes, for data.
    width
        Columns of the terminal.
    stdout_is_terminal, stderr_is_terminal
        Whether a person reads them.
    colour
        Whether colours are wanted.
    """

    arguments: Sequence[str]
    stdin: IO[bytes]
    stdout: TextIO
    stderr: TextIO
    stdout_bytes: IO[bytes]
    width: int | None = None
    stdout_is_terminal: bool = False
    stderr_is_terminal: bool = False
    colour: bool = True

    @classmethod
    def of_process(cls) -> Surroundings:
        """Those of the running process."""
        open_closed_streams()
        colour = not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        return cls(
            sys.argv[1:], sys.stdin.buffer, cast(TextIO, ReportStream(sys.stdout)),
            cast(TextIO, ReportStream(sys.stderr, is_needed=False)), sys.stdout.buffer,
            shutil.get_terminal_size().columns, sys.stdout.isatty(), sys.stderr.isatty(), colour,
        )  # fmt: skip

    def streams(self) -> Streams:
        """Standard input and output for a task."""
        from lomrix.job.streams import Streams

        return Streams(self.stdin, self.stdout_bytes)

    def screen(self, *, errors: bool = False) -> Screen:
        """Where accounts are told, or errors."""
        from lomrix.show.terminal import Screen

        stream, terminal = (self.stderr, self.stderr_is_terminal) if errors else (self.stdout, self.stdout_is_terminal)
        return Screen(stream, self.width, terminal, self.colour)


# Requests to end that came; whatever goes wrong after one goes wrong because of it.
ASKED_TO_END: list[int] = []
# The surroundings of the command that is running.
CURRENT: ContextVar[Surroundings] = ContextVar("CURRENT")
