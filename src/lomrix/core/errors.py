"""The errors that a person sees: what is wrong, where, and what to do next."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Proposal:
    """A step that could be done next; the interface formats it. `inputs` gives files beside the first one, by role."""

    do: str
    settings: Mapping[str, object] = field(default_factory=dict)
    inputs: Mapping[str, str] = field(default_factory=dict)


class LomrixError(Exception):
    """An error with a plain message."""

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

    `extras` are tables that help to mend them, by name; those that were asked for are written anyway.
    """

    exit_status = 1

    def __init__(
        self, what: str, *, where: str = "", todo: str = "", extras: Mapping[str, object] | None = None
    ) -> None:
        super().__init__(what, where=where, todo=todo)
        self.extras = extras or {}


class UsageError(LomrixError):
    """The request is wrong, or does not fit the tables."""

    exit_status = 2


class SettingError(UsageError):
    """A setting of a step is not valid."""

    def __init__(self, name: str, what: str, *, where: str = "", todo: str = "") -> None:
        super().__init__(what, where=where, todo=todo)
        self.name = name


class FileError(LomrixError):
    """A file or server cannot be read or written."""

    exit_status = 3


class UnbalancedAccountError(LomrixError):
    """A step lost or invented rows: a bug in Lomrix, which stops itself."""

    exit_status = 1
