"""Standard streams for reports: a reader may close a pipe early; a full disk is reported once."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from typing import Any, TextIO


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
