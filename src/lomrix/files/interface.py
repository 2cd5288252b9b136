"""Sources and sinks: the two small interfaces through which everything is read and written."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table


@dataclass(frozen=True)
class Read:
    """A table as it was read, and what the reading wants a person to look at."""

    table: Table
    notes: tuple[Note, ...] = ()


class Source(ABC):
    """Something that a table is read from. Nothing but its names and its dictionary is read before it is asked for."""

    @property
    @abstractmethod
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""

    @property
    @abstractmethod
    def dictionary(self) -> Dictionary:
        """What is known of its variables."""

    @abstractmethod
    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> Read:
        """Read the table.

        Parameters
        ----------
        columns
            Which columns are wanted; all where None. They come in the order of the source.
        rows
            Which rows are wanted, counted from 0; all where None. Types that nobody stated are found from these rows.

        Raises
        ------
        FileError
            Where it cannot be read.
        """

    @abstractmethod
    def fingerprint(self) -> str:
        """A hash of its content with the algorithm in front; empty where it has none."""


class Sink(ABC):
    """Something that is written to: checked before any work, then staged, then committed or discarded."""

    @property
    @abstractmethod
    def files(self) -> tuple[Path, ...]:
        """The files that it will write or replace."""

    @abstractmethod
    def check(self) -> None:
        """Stop where it could not be written.

        Raises
        ------
        FileError
            Naming what stands against it.
        """

    @abstractmethod
    def stage(self, content: object) -> None:
        """Make everything ready beside its place, so that nothing but the last step is left to do.

        Parameters
        ----------
        content
            What is written, mostly a table.

        Raises
        ------
        FileError
            Where the system says no; nothing was changed then.
        """

    def verify(self, table: Table) -> int:
        """Read back what was staged and compare it; returns the number of cells that were compared."""
        return 0

    @abstractmethod
    def commit(self) -> tuple[Path, ...]:
        """Put what was staged in its place; returns the files."""

    @abstractmethod
    def discard(self) -> None:
        """Take away what was staged and not committed."""
