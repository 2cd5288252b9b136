"""The grid of cases and occasions, and the position of each row of a long table in it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import MOST_EXAMPLES, Cases, require_present
from lomrix.core.rows.keys import format_keys, group_rows
from lomrix.core.rows.occasions import Occasion, Ranks, rank_values
from lomrix.core.table.notes import Note
from lomrix.core.table.other_layout import OtherLayout, to_typed_value
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
REPEATED_ADVICE = (
    "Correct the file, name an ‹occasion› that distinguishes the rows, or use ‹repeated=first›, last, mean, "
    "median, min, max or sum."
)


@dataclass
class Grid:
    """The position of each row of a long table among cases and occasions; `memory` records the order of occasions in
    the wide layout.
    """

    table: Table
    case: tuple[str, ...]
    names: tuple[str, ...]
    memory: OtherLayout | None = None
    ranks: list[Ranks] = field(default_factory=list)

    @cached_property
    def cases(self) -> Cases:
        """The cases, in order of first appearance."""
        return Cases(self.table, self.case)

    @cached_property
    def _occasions(self) -> tuple[tuple[Occasion, ...], Array | None]:
        """The occasions in order, and each row's; None if every case has all of them in order."""
        for name in self.names:
            require_present(self.table, name, "an occasion")
        if self._regular_occasions is not None:
            return self._regular_occasions, None
        groups = group_rows(self.table, self.names)
        distinct = list(zip(*(self._to_values(groups.values[name]) for name in self.names), strict=True))
        order = self._sort_occasions(distinct, self._order_of_appearance(groups.codes, len(distinct)))
        if order == list(range(len(distinct))):
            return tuple(distinct), groups.codes
        position = np.empty(len(distinct), np.int64)
        position[order] = np.arange(len(distinct))
        return tuple(distinct[index] for index in order), position[groups.codes]

    @cached_property
    def _regular_occasions(self) -> tuple[Occasion, ...] | None:
        """The occasions, if every case has all of them once and in order; else None."""
        cases = self.cases
        if not len(cases.lengths) or not cases.is_contiguous or (cases.lengths != cases.lengths[0]).any():
            return None
        count = int(cases.lengths[0])
        for name in self.names:
            column = self.table[name].encode_if_repetitive() if len(cases) > 1 else self.table[name]
            if column.type == "string" and not column.strings.is_distinct:
                return None
            if not (column.values.reshape(len(cases), count) == column.values[:count]).all():
                return None
        first = self.table.only(self.names).first(count)
        distinct = list(zip(*(self._to_values(first[name]) for name in self.names), strict=True))
        if len(set(distinct)) < count or self._sort_occasions(distinct, range(count)) != list(range(count)):
            return None
        return tuple(distinct)

    @staticmethod
    def _to_values(column: Any) -> list[Any]:
        return list(column.values.tolist()) if column.type != "string" else column.cells()

    def _order_of_appearance(self, codes: Array, count: int) -> Iterable[int]:
        """Return the positions of the occasions in order of first appearance, where that may matter."""
        if all(self.table[name].type != "string" for name in self.names):
            return range(count)
        first = np.full(count, len(codes))
        first[codes[::-1]] = np.arange(len(codes))[::-1]
        return [int(index) for index in np.argsort(first, kind="stable")]

    def _sort_occasions(self, distinct: list[Occasion], appearance: Iterable[int]) -> list[int]:
        """Return the positions of the occasions in recorded order, else in the order of their values."""
        if self.memory is not None:
            types = [self.memory.types.get(name) for name in self.memory.occasions]
            known = dict.fromkeys(
                tuple(to_typed_value(value, type_) for value, type_ in zip(column_index.at, types, strict=True))
                for column_index in self.memory.places
            )
            known_rank = {occasion: index for index, occasion in enumerate(known)}
            if set(distinct) <= set(known_rank):
                return sorted(range(len(distinct)), key=lambda index: known_rank[distinct[index]])
        appearance = list(appearance)
        self.ranks = [
            rank_values(name, (distinct[index][column_index] for index in appearance), self.table.dictionary)
            for column_index, name in enumerate(self.names)
        ]
        return sorted(
            range(len(distinct)),
            key=lambda index: [
                known_rank.of[value] for known_rank, value in zip(self.ranks, distinct[index], strict=True)
            ],
        )

    @property
    def order_notes(self) -> list[Note]:
        """Note where the order of the rows decides the order of the occasions."""
        self.occasions  # noqa: B018 the order is found with them
        return [note for rank in self.ranks if (note := rank.note)]

    @property
    def occasions(self) -> tuple[Occasion, ...]:
        """The occasions that occur, in order."""
        return self._occasions[0]

    @property
    def times(self) -> int:
        """Number of occasions."""
        return len(self.occasions)

    @property
    def size(self) -> int:
        """Number of cells of one measure: cases times occasions."""
        return len(self.cases) * self.times

    @cached_property
    def cells(self) -> Rows:
        """Each row's position among the cells of a measure, case by case."""
        of_row = self._occasions[1]
        return np.arange(self.size) if of_row is None else np.asarray(self.cases.of_row * self.times + of_row)

    def count_per_occasion(self, rows: npt.NDArray[np.bool_] | None = None) -> npt.NDArray[np.int64]:
        """Return the number of rows at each occasion, of some rows (a mask) or of all."""
        of_row = self._occasions[1]
        if of_row is not None:
            return np.bincount(of_row if rows is None else of_row[rows], minlength=self.times)
        if rows is None:
            return np.full(self.times, len(self.cases))
        # Counting few rows is faster: the rows meant, or the others.
        few = np.count_nonzero(rows) * 2 < len(rows)
        counts = np.bincount(np.flatnonzero(rows if few else ~rows) % self.times, minlength=self.times)
        return counts if few else len(self.cases) - counts

    def rows_at(self, occasions: Rows) -> Rows:
        """Return for each case the row of one of its occasions."""
        cells = np.arange(len(occasions)) * self.times + occasions
        if self.is_full:
            return cells
        row = np.zeros(self.size, np.int64)
        row[self.cells] = np.arange(len(self.table))
        return np.asarray(row[cells])

    @cached_property
    def is_sorted(self) -> bool:
        """True if the rows are sorted by case and occasion."""
        return self._occasions[1] is None or bool((self.cells[1:] > self.cells[:-1]).all())

    @property
    def is_full(self) -> bool:
        """True if the rows are all cells in order."""
        return len(self.table) == self.size and self.is_sorted

    @cached_property
    def case_counts(self) -> npt.NDArray[np.int64]:
        """Number of cases with a row, for each occasion."""
        if self.is_full:
            return np.full(self.times, len(self.cases))
        return np.asarray(np.count_nonzero(self.seen, axis=0))

    @cached_property
    def _occupied(self) -> npt.NDArray[np.bool_]:
        """True for the cells that have a row."""
        if self._occasions[1] is None:  # every case has every occasion
            return np.ones(self.size, np.bool_)
        occupied = np.zeros(self.size, np.bool_)
        occupied[self.cells] = True
        return occupied

    @cached_property
    def repeated(self) -> Rows:
        """Rows that share their case and occasion with another row."""
        if self.is_sorted or int(np.count_nonzero(self._occupied)) == len(self.table):
            return np.zeros(0, np.int64)
        counts = np.bincount(self.cells, minlength=self.size)
        return np.flatnonzero(counts[self.cells] > 1)

    @property
    def seen(self) -> npt.NDArray[np.bool_]:
        """Shape (cases, occasions): True where there is a row."""
        return self._occupied.reshape(len(self.cases), self.times)

    def require_no_repetition(self, todo: str = REPEATED_ADVICE) -> None:
        """Stop if several rows share a case and occasion.

        Raises DataError with the rows.
        """
        rows = self.repeated
        if not len(rows):
            return
        order = rows[np.argsort(self.cells[rows], kind="stable")][: 2 * MOST_EXAMPLES]
        texts = format_keys(self.table, [*self.case, *self.names], order)
        rows_by_key: dict[str, list[str]] = {}
        for row, text in zip(order.tolist(), texts, strict=True):
            rows_by_key.setdefault(text, []).append(str(row + self.table.first_row))
        shown = [
            f"{text} (rows {', '.join(row_numbers)})"
            for text, row_numbers in rows_by_key.items()
            if len(row_numbers) > 1
        ]
        count = len(np.unique(self.cells[rows]))
        raise DataError(
            f"{count:,} {'case and occasion is' if count == 1 else 'cases and occasions are'} in several rows.",
            where="; ".join(shown[:MOST_EXAMPLES]) + (" …" if count > MOST_EXAMPLES else ""),
            todo=todo,
        )


def find_unseen_rows(table: Table, case: tuple[str, ...], occasion: tuple[str, ...]) -> npt.NDArray[np.bool_]:
    """Find the rows that only balance a panel: the case was not seen then.

    Every measure of such a row is missing, some for `no-occasion`; only constants of the case have a value. Case and
    occasion must not be missing.
    """
    result, is_named = np.zeros(len(table), np.bool_), False
    measures = {name: column for name, column in table.columns.items() if name not in (*case, *occasion)}
    for column in measures.values():
        if column.why is not None and NO_OCCASION in column.reasons:
            result |= column.why == column.reasons.index(NO_OCCASION) + 1
            is_named = True
    if not is_named:
        return result
    cases = Cases(table, case)
    for name, column in measures.items():
        has_value = result & ~column.is_missing
        if has_value.any() and cases.find_variation(name).varies:
            result &= ~has_value
    return result
