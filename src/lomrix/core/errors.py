"""The errors that a person sees: what is wrong, where, and what to do next."""

from __future__ import annotations


class LomrixError(Exception):
    """An error that is told in plain words.

    Parameters
    ----------
    what
        What is wrong, in one sentence.
    where
        File, row, column or value concerned; empty where there is none.
    todo
        What to do next, in one sentence.
    """

    exit_status = 1

    def __init__(self, what: str, *, where: str = "", todo: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.todo = todo


class DataError(LomrixError):
    """The data break a stated expectation or rule; nothing was written."""

    exit_status = 1


class UsageError(LomrixError):
    """The command line, or a setting of a step, is wrong."""

    exit_status = 2


class FileError(LomrixError):
    """A file or server cannot be read or written."""

    exit_status = 3


class UnbalancedAccountError(LomrixError):
    """A step lost or made up rows: a bug in Lomrix, which stops itself."""

    exit_status = 1
