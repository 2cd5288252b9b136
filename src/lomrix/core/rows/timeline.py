"""The timeline: rows case by case in the order of their occasions, and each row's neighbours."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Shown, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import OCCASIONS_NEXT, Cases, require_present
from lomrix.core.rows.keys import format_keys
from lomrix.core.rows.occasions import Ranks, rank_values
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]


@dataclass
class Timeline:
    """Rows in order of time within their cases.

    Raises DataError if a row has no occasion, or a case has two rows of one occasion.
    """

    table: Table  # the long table
    cases: Cases  # its cases
    occasion: tuple[str, ...]  # the columns that say when
    known: Table | None = None  # the occasions of the whole in order of appearance, where the table is a part of it
    ranks: list[Ranks] = field(default_factory=list)

    def __post_init__(self) -> None:
        require_present(self.table, self.occasion, "an occasion", OCCASIONS_NEXT)
        self._require_distinct()

    @cached_property
    def _times(self) -> list[Array]:
        """Numbers in the order of its values, for each occasion column."""
        return [times[self._known_count :] for times in self._all_times]

    @property
    def _known_count(self) -> int:
        return 0 if self.known is None else len(self.known)

    @cached_property
    def _all_times(self) -> list[Array]:
        """The same, first for the known occasions."""
        table = self.table.only(self.occasion)
        if self.known is not None:
            table = concatenate_tables([self.known, replace(table, row_numbers=None)])
        return [self._rank_occasions(table[name], name) for name in self.occasion]

    def _rank_occasions(self, column: Column, name: str) -> Array:
        if column.type != "string":
            return column.values
        column = column.compact()
        texts = column.strings.texts()
        first = np.full(len(texts), len(column))
        first[column.values[::-1]] = np.arange(len(column))[::-1]
        appearance = [texts[index] for index in np.argsort(first, kind="stable").tolist()]
        self.ranks.append(rank_values(name, appearance, self.table.dictionary))
        result = np.empty(len(texts), np.int64)
        result[sorted(range(len(texts)), key=lambda index: self.ranks[-1].of[texts[index]])] = np.arange(len(texts))
        return result[column.values]

    @cached_property
    def positions(self) -> Rows:
        """Position of each row's occasion among all that occur."""
        return self._rank_all()[self._known_count :]

    def _rank_all(self) -> Rows:
        if len(self._all_times) == 1:
            return key_codes.rank_values(self._all_times[0], np.zeros(len(self._all_times[0]), np.bool_))[0]
        order = np.lexsort(self._all_times[::-1])
        new = np.zeros(len(order), np.bool_)
        for values in self._all_times:
            sorted_values = values[order]
            new[1:] |= sorted_values[1:] != sorted_values[:-1]
        result = np.empty(len(order), np.int64)
        result[order] = np.cumsum(new)
        return result

    @property
    def order_notes(self) -> list[Note]:
        """Note where the order of the rows decides the order of the occasions."""
        return [note for rank in self.ranks for note in rank.notes]

    @cached_property
    def order(self) -> Rows | None:
        """Rows in order; None if they are already in order, which is tested without sorting."""
        if self.cases.is_contiguous:
            rises = np.zeros(max(len(self.table) - 1, 0), np.bool_)
            level = np.ones(len(rises), np.bool_)
            for values in self._times:
                rises |= level & (values[1:] > values[:-1])
                level &= values[1:] == values[:-1]
            rises[self.cases.starts[1:] - 1] = True
            if rises.all():
                return None
        else:
            by_case = np.argsort(self.cases.of_row, kind="stable")
            if self._is_order(by_case):
                return by_case
        return np.lexsort([*(values for values in reversed(self._times)), self.cases.of_row])

    def _is_order(self, order: Rows) -> bool:
        """Return whether occasions rise within each case in an order that groups the cases."""
        case = self.cases.of_row[order]
        rises = case[1:] != case[:-1]
        level = ~rises
        for values in self._times:
            sorted_values = values[order]
            rises |= level & (sorted_values[1:] > sorted_values[:-1])
            level &= sorted_values[1:] == sorted_values[:-1]
        return bool(rises.all())

    @cached_property
    def starts(self) -> Rows:
        """First position of each case among the rows in order."""
        if self.order is None:
            return self.cases.starts
        case = self.cases.of_row[self.order]
        return np.flatnonzero(np.append(True, case[1:] != case[:-1])) if len(case) else np.zeros(0, np.int64)

    @cached_property
    def lengths(self) -> Rows:
        """Number of rows of each case, in order."""
        return np.diff(np.append(self.starts, len(self.table)))

    @cached_property
    def numbers(self) -> Rows:
        """Number of each ordered row within its case, from 0."""
        return np.arange(len(self.table)) - np.repeat(self.starts, self.lengths)

    def to_order(self, values: Array) -> Array:
        """Return values of rows in order of time."""
        return values if self.order is None else values[self.order]

    def to_rows(self, values: Array) -> Array:
        """Return values in order of time as values of the rows."""
        if self.order is None:
            return values
        result = np.empty_like(values)
        result[self.order] = values
        return result

    def rows_at(self, positions: Rows) -> Rows:
        """Return for each row the row at a position among the rows in order; -1 stays."""
        if self.order is None:
            return positions
        return self.to_rows(np.where(positions < 0, -1, self.order[positions]))

    def shift_rows(self, steps: int) -> Rows:
        """Return for each row the row this many occasions before it in its case (after it if negative); -1 for none."""
        positions = np.arange(len(self.table)) - steps
        available = self.numbers if steps >= 0 else np.repeat(self.lengths, self.lengths) - 1 - self.numbers
        positions[available < abs(steps)] = -1
        return self.rows_at(positions)

    def end_rows(self, *, last: bool) -> Rows:
        """Return for each row the row of its case's first occasion, or last."""
        positions = self.starts + self.lengths - 1 if last else self.starts
        return self.rows_at(np.repeat(positions, self.lengths))

    def _require_distinct(self) -> None:
        """Stop if two rows share a case and occasion: then there is no order."""
        same = np.zeros(max(len(self.table) - 1, 0), np.bool_)
        if self.order is None or not len(same):
            return
        case = self.cases.of_row[self.order]
        same = case[1:] == case[:-1]
        for values in self._times:
            sorted_values = values[self.order]
            same &= sorted_values[1:] == sorted_values[:-1]
        if not same.any():
            return
        repeats = np.flatnonzero(same)
        numbers = self.table.find_row_numbers(self.order[repeats])
        repeats = repeats[np.argsort(numbers, kind="stable")[:MOST_EXAMPLES]]
        texts = format_keys(self.table, [*self.cases.names, *self.occasion], self.order[repeats])
        first, second = (self.table.number_rows(self.order[repeats + step]) for step in (0, 1))
        shown = [(one, f"{text} (rows {one}, {other})") for text, one, other in zip(texts, first, second, strict=True)]
        count = int(np.count_nonzero(same))
        raise DataError(
            Words("{rows:row repeats its|rows repeat their} case and occasion, so their order is unclear.", rows=count),
            where=Shown(shown, count, separator="; "),
            todo="Correct the file, or name a further ‹occasion› that distinguishes the rows.",
        )
