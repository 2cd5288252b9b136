"""Sources and sinks: the two small interfaces through which everything is read and written."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lomrix.core.steps.account import Listing
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared
    from lomrix.files.reading import ReadSettings


@dataclass(frozen=True)
class TablePlace:
    """A table of a database, as far as it has to be told from others.

    Parameters
    ----------
    database
        Its URL, without anything secret.
    table
        Its name, its schema in front.
    """

    database: str
    table: str

    def __str__(self) -> str:
        return f"{self.database}#{self.table}"


# Something that is read or written, and that must not be both.
Place = Path | TablePlace


@dataclass(frozen=True)
class Read:
    """A table as it was read, and what the reading wants a person to look at."""

    table: Table
    notes: tuple[Note, ...] = ()


@dataclass(frozen=True)
class Placed:
    """Something that was put in its place.

    Parameters
    ----------
    told
        How it is told of.
    size
        Its bytes; None where it is no file.
    table
        The table in it, where it is another one than was staged.
    """

    told: str
    size: int | None = None
    table: Table | None = None


class Source(ABC):
    """Something that a table is read from. Nothing but its names and its dictionary is read before it is asked for."""

    settings: ReadSettings

    def rename(self, names: Mapping[str, str]) -> None:
        """Let what was said of a new name count for the column that gets it."""
        self.settings = self.settings.renamed({old: new for old, new in names.items() if old in self.names})

    @property
    @abstractmethod
    def name(self) -> str:
        """How messages speak of its table."""

    @property
    @abstractmethod
    def places(self) -> tuple[Place, ...]:
        """What it reads, none of which may be replaced."""

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

    def close(self) -> None:
        """Let go of what was opened."""
        return

    def begin_fingerprint(self) -> object:
        """Begin to compute the fingerprint, while other work goes on."""
        return None

    @abstractmethod
    def fingerprint(self) -> str:
        """A hash of its content with the algorithm in front; empty where it has none."""


class Sink(ABC):
    """Something that is written to: checked before any work, then staged, then committed or discarded."""

    notes: list[Note]
    prepared: Prepared | None

    @property
    @abstractmethod
    def name(self) -> str:
        """How messages speak of it."""

    @property
    @abstractmethod
    def places(self) -> tuple[Place, ...]:
        """What it will write or replace."""

    @abstractmethod
    def check(self) -> None:
        """Stop where it could not be written.

        Raises
        ------
        FileError
            Naming what stands against it.
        """

    def understand(self, ready: Sequence[Any]) -> None:
        """Take up what a step made ready: how exported tables have to be understood, or what a page tells."""
        self.prepared = ready[0]

    def cannot_hold(self, table: Table) -> list[str]:
        """What it loses of a table, in words; nothing where all is held."""
        return []

    def beforehand(self, table: Table) -> list[Listing]:
        """What a person wants to see before anything is written, such as the table of a database to be made."""
        return []

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

    def staged_hash(self) -> str:
        """A hash of what was staged; empty where it has none."""
        return ""

    def verify(self, table: Table) -> int | None:
        """Read back what was staged and compare it; returns the number of cells, None where any file's way will do."""
        return None

    @abstractmethod
    def commit(self) -> tuple[Placed, ...]:
        """Put what was staged in its place; returns what stands there now."""

    def undo(self) -> None:
        """Bring back what stood there before `commit`, where another output could not be put in its place."""
        return

    def settle(self) -> None:
        """Let go of what stood there before, once all outputs are in their places."""
        return

    @abstractmethod
    def discard(self) -> None:
        """Take away what was staged and not committed."""
