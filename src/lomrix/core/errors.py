"""The errors that a person sees: what is wrong, where, and what to do next."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from lomrix.core.combining import Shown, combine, identify_text


@dataclass(frozen=True)
class Proposal:
    """A step that could be done next; the interface formats it.

    `inputs` gives files beside the first one, by role; if it is the step that was just done, all its inputs and
    settings are repeated. `outputs` gives files to write, by role; `words` say what it is for.
    """

    do: str
    settings: Mapping[str, object] = field(default_factory=dict)
    inputs: Mapping[str, str] = field(default_factory=dict)
    outputs: Mapping[str, str] = field(default_factory=dict)
    words: str = ""


class LomrixError(Exception):
    """An error with a plain message; `columns` are those it is about, `setting` the one to change."""

    exit_status = 1
    pointer: int | None = None
    setting = ""

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        todo: str = "",
        columns: Sequence[str] = (),
        proposal: Proposal | None = None,
    ) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.todo = todo
        self.columns = tuple(columns)
        self.proposal = proposal

    def __reduce__(self) -> tuple[Any, ...]:
        return _restore_error, (type(self), self.args, vars(self))

    def reword(self, what: str, where: str, todo: str) -> LomrixError:
        """Return the error in other words."""
        error = LomrixError(what, where=where, todo=todo, columns=self.columns)
        error.exit_status, error.pointer, error.setting = self.exit_status, self.pointer, self.setting
        return error

    def to_json(self) -> dict[str, object]:
        """The error as plain values."""
        content: dict[str, object] = {"what": self.what, "where": self.where, "next": self.todo}
        optional = {"at": self.pointer, "columns": list(self.columns) or None, "setting": self.setting or None}
        return content | {name: value for name, value in optional.items() if value is not None}


def _restore_error(kind: type[LomrixError], args: tuple[Any, ...], values: Mapping[str, Any]) -> LomrixError:
    """Make an error as it was in another process."""
    error = kind.__new__(kind, *args)
    vars(error).update(values)
    return error


class DataError(LomrixError):
    """The data break a stated expectation or rule; nothing was written.

    `extras` are tables that help to correct them, by name; those that were asked for are written anyway. Of the errors
    of several parts, the one with the lowest `rank` is raised: its rule is checked first.
    """

    def __init__(self, what: str, *, extras: Mapping[str, object] | None = None, rank: int = 0, **parts: Any) -> None:
        super().__init__(what, **parts)
        self.extras, self.rank = extras or {}, rank

    def combine(self, later: DataError) -> DataError:
        """Return the error about two parts of a table, if it is the same in both; else the more important."""
        if identify_text(self.what) != identify_text(later.what):
            return later if later.rank < self.rank else self
        what, where = combine(self.what, later.what), self.where
        if isinstance(where, Shown) and isinstance(later.where, Shown):
            where = where.combine(later.where)
        columns = tuple(dict.fromkeys([*self.columns, *later.columns]))
        return DataError(what, where=where, todo=self.todo, columns=columns, proposal=self.proposal, rank=self.rank)


class UsageError(LomrixError):
    """The request is wrong, or does not fit the tables."""

    exit_status = 2


class SettingError(UsageError):
    """A setting of a step is not valid."""

    def __init__(self, setting: str, what: str, **parts: Any) -> None:
        super().__init__(what, **parts)
        self.setting = setting


class IdleSettingError(SettingError):
    """A setting is valid, but does not apply here."""


class FileError(LomrixError):
    """A file or server cannot be read or written."""

    exit_status = 3


class AllRowsNeededError(LomrixError):
    """A step cannot work in parts with these data."""


class UnbalancedAccountError(LomrixError):
    """A step lost or invented rows: a bug in Lomrix, which stops itself."""


@contextmanager
def naming_columns(names: Iterable[str]) -> Iterator[None]:
    """Name the columns of errors that do not name any."""
    try:
        yield
    except LomrixError as error:
        error.columns = error.columns or tuple(names)
        raise
