"""The environment of a run, passed in, so that the program can be run inside another one."""

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
class Environment:
    """Arguments and streams of one run."""

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
    def from_process(cls) -> Environment:
        """The environment of the running process."""
        open_closed_streams()
        colour = not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        return cls(
            sys.argv[1:], sys.stdin.buffer, cast(TextIO, ReportStream(sys.stdout)),
            cast(TextIO, ReportStream(sys.stderr, is_needed=False)), sys.stdout.buffer,
            shutil.get_terminal_size().columns, sys.stdout.isatty(), sys.stderr.isatty(), colour,
        )  # fmt: skip

    def make_streams(self) -> Streams:
        """Standard input and output for a task."""
        from lomrix.job.streams import Streams

        return Streams(self.stdin, self.stdout_bytes)

    def make_screen(self, *, errors: bool = False) -> Screen:
        """The screen for accounts, or for errors."""
        from lomrix.show.terminal import Screen

        stream, terminal = (self.stderr, self.stderr_is_terminal) if errors else (self.stdout, self.stdout_is_terminal)
        return Screen(stream, self.width, terminal, self.colour)


# Requests to end so far; any error after one is a consequence of it.
END_REQUESTS: list[int] = []
# The environment of the running command.
CURRENT: ContextVar[Environment] = ContextVar("CURRENT")
