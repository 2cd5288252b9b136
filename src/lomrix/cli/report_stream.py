"""Standard streams as the place of reports: a reader may go away; a disk that is full is told, and once."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from typing import Any, TextIO


class OutputLostError(Exception):
    """Standard output does not take what is written to it."""


class ReportStream:
    """A stream that ends quietly where its reader went away, and plainly where it cannot be written.

    Parameters
    ----------
    stream
        Where the words go; all that is not asked of this class is asked of it.
    is_needed
        Whether it is told where they cannot go there; there is no place to tell that of standard error.
    """

    def __init__(self, stream: TextIO, *, is_needed: bool = True) -> None:
        self._stream, self._is_needed, self._has_reader = stream, is_needed, True

    def write(self, text: str) -> int:
        """Write some words."""
        if text != "":  # as which some try what kind of stream this is
            self._tried(lambda: self._stream.write(text))
        return len(text)

    def flush(self) -> None:
        """Let them go out."""
        self._tried(self._stream.flush)

    def _tried(self, work: Callable[[], object]) -> None:
        if not self._has_reader:
            return
        try:
            work()
        except BrokenPipeError:
            # Not to read on is a reader's right. What the stream still holds must not be tried again at the end.
            self._has_reader = False
        except OSError as error:
            self._has_reader = False
            if self._is_needed:
                raise OutputLostError(error.strerror or str(error)) from error

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def open_closed_streams() -> None:
    """Put something in the place of standard streams that were closed, so that no file is taken for one of them.

    Standard input is empty then, standard error goes nowhere, and standard output is lost, as it is on a full disk.
    """
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is None:
            # The lowest free number is given: that of the stream.
            found = os.open(os.devnull, os.O_WRONLY if name == "stderr" else os.O_RDONLY)
            if found != number:
                os.dup2(found, number)
            setattr(sys, name, open(number, "r" if name == "stdin" else "w", encoding="utf-8", closefd=False))  # noqa: SIM115
