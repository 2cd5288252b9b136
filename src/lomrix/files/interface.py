"""Sources and sinks: the two interfaces for all reading and writing."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lomrix.core.combining import Run, run_in_memory
from lomrix.core.steps.account import Listing
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.reading import TYPED_OPTIONS, ReadSettings

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared
    from lomrix.files.scratch import TableStore


@dataclass(frozen=True)
class TableLocation:
    """A table of a database: URL without secrets, and name with its schema."""

    database: str
    table: str

    def __str__(self) -> str:
        return f"{self.database}#{self.table}"


# Something that is read or written, but must not be both.
Location = Path | TableLocation


@dataclass(frozen=True)
class ReadResult:
    """A table as read, with notes for the user."""

    table: Table
    notes: tuple[Note, ...] = ()


@dataclass(frozen=True)
class StoredOutput:
    """An output in its final place: how to report it, its bytes (None if it is not a file), and its table if that is
    not the one that was staged.
    """

    description: str
    size: int | None = None
    table: Table | None = None


class Source(ABC):
    """Something to read a table from. Only its names and dictionary are read before the table is requested."""

    settings: ReadSettings
    # The reading options that apply to its format.
    options_used: frozenset[str] = TYPED_OPTIONS

    def rename(self, names: Mapping[str, str]) -> None:
        """Apply the settings for new names to the columns that get them."""
        self.settings = self.settings.rename({old: new for old, new in names.items() if old in self.names})

    @property
    @abstractmethod
    def name(self) -> str:
        """The table's name in messages."""

    @property
    @abstractmethod
    def locations(self) -> tuple[Location, ...]:
        """What it reads, which must not be replaced."""

    @property
    @abstractmethod
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""

    @property
    @abstractmethod
    def dictionary(self) -> Dictionary:
        """What is known of its variables."""

    @abstractmethod
    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> ReadResult:
        """Read the given columns (in the order of the source) and rows (from 0); all if None.

        Types that nobody stated are inferred from these rows.

        Raises FileError if it cannot be read.
        """

    def iterate(self, columns: Collection[str] | None = None) -> Iterator[ReadResult]:
        """Yield the given columns some rows at a time, where the format allows."""
        yield self.read(columns)

    def read_into(self, store: TableStore, columns: Collection[str], run: Run = run_in_memory) -> ReadResult:
        """Read the given columns to disk and return the table that is mapped from there.

        Formats that cannot be read in parts are read as a whole first; `run` reads pieces that do not need each other.
        """
        result = self.read(columns)
        store.append(result.table)
        return ReadResult(store.finish(), result.notes)

    def estimate_rows(self) -> int | None:
        """Estimate the number of rows before they are read; None if the format cannot be read in parts."""
        return None

    def estimate_text_size(self) -> int:
        """Estimate the bytes that the texts of a row take in the file, where it is text; 0 elsewhere."""
        return 0

    def close(self) -> None:
        """Release what was opened."""
        return

    def begin_fingerprint(self) -> object:
        """Start computing the fingerprint in the background."""
        return None

    @abstractmethod
    def compute_fingerprint(self) -> str:
        """Return a hash of its content with the algorithm as prefix; empty if there is none."""


class Sink(ABC):
    """Something to write to: checked before any work, then staged, then committed or discarded."""

    notes: list[Note]
    prepared: Prepared | None
    run: Run | None = None  # makes parts of the content, if not this process does

    @property
    @abstractmethod
    def name(self) -> str:
        """Its name in messages."""

    @property
    @abstractmethod
    def locations(self) -> tuple[Location, ...]:
        """What it will write or replace."""

    @abstractmethod
    def check(self) -> None:
        """Stop if it could not be written.

        Raises FileError with the obstacle.
        """

    def require_room(self, rows: int, *, is_estimate: bool = False) -> None:
        """Stop if it cannot hold that many rows.

        Raises FileError with its limit.
        """
        return

    def set_prepared(self, prepared: Sequence[Any]) -> None:
        """Take what a step prepared: how to understand exported tables, or the content of a page."""
        self.prepared = prepared[0]

    def list_losses(self, table: Table) -> list[str]:
        """Describe what it loses of a table; empty if nothing."""
        return []

    def preview(self, table: Table) -> list[Listing]:
        """List what a person wants to see before anything is written, such as the table to be created."""
        return []

    @abstractmethod
    def stage(self, content: object) -> None:
        """Prepare the output beside its place, so that only the last step is left.

        Raises FileError if the system refuses; nothing was changed.
        """

    def compute_staged_hash(self) -> str:
        """Return a hash of what was staged; empty if there is none."""
        return ""

    def verify(self, table: Table) -> int | None:
        """Read back what was staged and compare it; return the number of cells, None if the format needs no check of
        its own.
        """
        return None

    @abstractmethod
    def commit(self) -> tuple[StoredOutput, ...]:
        """Put what was staged in its place; return what is there now."""

    def undo(self) -> None:
        """Restore the previous state after `commit`, if another output failed."""
        return

    def settle(self) -> None:
        """Drop the previous state, once all outputs are in place."""
        return

    @abstractmethod
    def discard(self) -> None:
        """Remove what was staged and not committed."""
