"""The environment of a run, passed in, so that the program can be run inside another one."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from typing import IO, TYPE_CHECKING, Any, TextIO, cast

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


class OutputLostError(Exception):
    """Standard output cannot be written."""


class ReportStream:
    """A stream that ignores a closed pipe, and raises OutputLostError if it cannot be written and is needed."""

    def __init__(self, stream: TextIO, *, is_needed: bool = True) -> None:
        self._stream, self._is_needed, self._has_reader = stream, is_needed, True

    def write(self, text: str) -> int:
        """Write some text."""
        if text != "":  # some libraries write this to find the kind of the stream
            self._attempt(lambda: self._stream.write(text))
        return len(text)

    def flush(self) -> None:
        """Flush the text."""
        self._attempt(self._stream.flush)

    def _attempt(self, action: Callable[[], object]) -> None:
        if not self._has_reader:
            return
        try:
            action()
        except BrokenPipeError:
            # A reader may stop reading. What is still buffered must not be written again at the end.
            self._has_reader = False
        except OSError as error:
            self._has_reader = False
            if self._is_needed:
                raise OutputLostError(error.strerror or str(error)) from error

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def open_closed_streams() -> None:
    """Replace standard streams that are closed, so that no file takes their number."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is None:
            # The system assigns the lowest free number: that of the stream.
            descriptor = os.open(os.devnull, os.O_WRONLY if name == "stderr" else os.O_RDONLY)
            if descriptor != number:
                os.dup2(descriptor, number)
            setattr(sys, name, open(number, "r" if name == "stdin" else "w", encoding="utf-8", closefd=False))  # noqa: SIM115
