"""Table: ordered columns of one length, with their dictionary and history."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import NO_HISTORY, History
from lomrix.core.table.notes import FIRST_ROW
from lomrix.core.table.selection import unknown_column_error

# From this many rows on, columns are taken in parallel.
LARGE = 100_000


@dataclass(frozen=True)
class Table:
    """Columns of one length. A step returns a new table that shares the untouched arrays."""

    columns: Mapping[str, Column]  # columns by name, in order
    dictionary: Dictionary = field(default_factory=Dictionary)  # what is known of the variables
    history: History = NO_HISTORY  # the tasks that made the table
    name: str = "table"  # how messages speak of the table; mostly the file's name
    first_row: int = FIRST_ROW  # number of the first row as its sheet counts it
    names_in_source: tuple[str, ...] = ()  # all columns of its source, where only some of them were read
    row_numbers: Array | None = None  # numbers of the rows, if they do not follow each other

    def __post_init__(self) -> None:
        lengths = {name: len(column) for name, column in self.columns.items()}
        if len(set(lengths.values())) > 1:
            raise ValueError(f"columns of unequal length: {lengths}")

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()))) if self.columns else 0

    def __getitem__(self, name: str) -> Column:
        if name not in self.columns:
            raise unknown_column_error(name, self.names, self.name)
        return self.columns[name]

    @property
    def names(self) -> list[str]:
        """The columns' names in order."""
        return list(self.columns)

    @property
    def source_names(self) -> list[str]:
        """The columns of its source in order, read or not."""
        return list(self.names_in_source or self.columns)

    def types(self) -> dict[str, str]:
        """Return the columns' types by name."""
        return {name: column.type for name, column in self.columns.items()}

    def number_rows(self, rows: Array) -> list[int]:
        """Return the numbers of some rows, for a message."""
        return [int(number) for number in self.find_row_numbers(rows)]

    def show_rows(self, rows: Array, values: Iterable[Any] | None = None) -> tuple[tuple[int, Any], ...]:
        """Return the first of some rows as examples: their numbers, each with its value."""
        numbers = self.number_rows(rows[:MOST_EXAMPLES])
        return tuple(zip(numbers, itertools.repeat(None) if values is None else values, strict=False))

    def find_row_numbers(self, rows: Array) -> Array:
        """Return the numbers of rows as the sheet of the source counts them."""
        return rows + self.first_row if self.row_numbers is None else self.row_numbers[rows]

    def with_columns(self, columns: Mapping[str, Column]) -> Table:
        """Return the table with other columns; the dictionary keeps what still applies."""
        return replace(self, columns=dict(columns), dictionary=self.dictionary.for_columns(columns), names_in_source=())

    def only(self, names: Iterable[str]) -> Table:
        """Return just these columns, in the order given."""
        return self.with_columns({name: self[name] for name in names})

    def split(self, size: int) -> Iterator[Table]:
        """Yield the table some rows at a time; a table without rows is one part."""
        for start in range(0, max(len(self), 1), size):
            yield self.slice(start, start + size)

    def slice(self, start: int, stop: int) -> Table:
        """Return the rows from `start` up to `stop`, without copying; they keep their numbers."""
        columns = {name: column.slice(start, stop) for name, column in self.columns.items()}
        numbers = None if self.row_numbers is None else self.row_numbers[start:stop]
        return replace(self, columns=columns, first_row=self.first_row + start, row_numbers=numbers)

    def take(self, rows: Array) -> Table:
        """Return just these rows, in the order given."""
        most = 1 if len(rows) < LARGE else len(self.columns) or 1
        taken = map_in_threads(lambda column: column.take(rows), self.columns.values(), most=most)
        numbers = None if self.row_numbers is None else self.row_numbers[rows]
        columns = dict(zip(self.columns, taken, strict=True))
        return replace(self, columns=columns, row_numbers=numbers, names_in_source=())

    def keep(self, rows: Array) -> Table:
        """Return just these rows, given in their order, with their numbers."""
        return self if len(rows) == len(self) else replace(self.take(rows), row_numbers=self.find_row_numbers(rows))

    def first(self, rows: int) -> Table:
        """Return the first rows."""
        return self.take(np.arange(min(rows, len(self))))

    def same_as(self, other: Table) -> bool:
        """Return whether names, order, types, values and reasons are equal."""
        return self.names == other.names and all(
            column.same_as(other.columns[name]) for name, column in self.columns.items()
        )


def require_new_name(name: str, taken: Iterable[str], what: str) -> None:
    """Stop before any work if a new column's name is already used.

    Raises DataError naming the column and what would have made it.
    """
    if name in set(taken):
        raise DataError(
            f"The column {name} already exists, so {what} cannot have that name.",
            todo="Choose another name, or leave the old column out.",
        )
