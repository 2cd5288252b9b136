"""The errors that a person sees: what is wrong, where, and what to do next."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Proposal:
    """A step that could be done next, for a face to put in its own words.

    Parameters
    ----------
    do
        The step's word, such as `to-long`.
    settings
        Its settings.
    inputs
        Files of its inputs beside the first one, by role.
    """

    do: str
    settings: Mapping[str, object] = field(default_factory=dict)
    inputs: Mapping[str, str] = field(default_factory=dict)


class LomrixError(Exception):
    """An error that is told in plain words.

    Parameters
    ----------
    what
        What is wrong, in one sentence. Settings stand in it as `‹name›`, as `lomrix.core.wording` says.
    where
        File, row, column or value concerned; empty where there is none.
    todo
        What to do next, in one sentence.
    proposal
        A step that would do it.

    `pointer` is the place in `where` that is meant, counted in signs from 0; None where there is none.
    """

    exit_status = 1
    pointer: int | None = None

    def __init__(self, what: str, *, where: str = "", todo: str = "", proposal: Proposal | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.todo = todo
        self.proposal = proposal


class DataError(LomrixError):
    """The data break a stated expectation or rule; nothing was written.

    Parameters
    ----------
    what, where, todo
        As for all errors.
    extras
        Tables that help to mend it, by name; those that were asked for are written all the same.
    """

    exit_status = 1

    def __init__(
        self, what: str, *, where: str = "", todo: str = "", extras: Mapping[str, object] | None = None
    ) -> None:
        super().__init__(what, where=where, todo=todo)
        self.extras = extras or {}


class UsageError(LomrixError):
    """What was asked for is wrong, or does not fit the tables."""

    exit_status = 2


class SettingError(UsageError):
    """A setting of a step cannot be.

    Parameters
    ----------
    name
        Name of the setting.
    what, where, todo
        As for all errors.
    """

    def __init__(self, name: str, what: str, *, where: str = "", todo: str = "") -> None:
        super().__init__(what, where=where, todo=todo)
        self.name = name


class FileError(LomrixError):
    """A file or server cannot be read or written."""

    exit_status = 3


class UnbalancedAccountError(LomrixError):
    """A step lost or made up rows: a bug in Lomrix, which stops itself."""

    exit_status = 1
