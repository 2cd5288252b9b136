"""The grid of cases and occasions, and the position of each row of a long table in it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.combining import Extreme, Shown
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import OCCASIONS_NEXT, Cases, require_present
from lomrix.core.rows.keys import group_rows, show_repeated
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


@dataclass(frozen=True)
class GridSurvey:
    """What must be known of all parts of a long table.

    `first_rows` has for each occasion the number of its first row, if that may matter for the order; `filled` counts
    the cases and occasions that have a row, and `repeated` shows those that have several.
    """

    first_rows: Mapping[Occasion, Extreme]
    cases: int
    filled: int
    repeated: Shown


@dataclass
class Grid:
    """The position of each row of a long table among cases and occasions; `memory` records the order of occasions in
    the wide layout, and `whole` is the survey of the table that this is a part of.
    """

    table: Table
    case: tuple[str, ...]
    names: tuple[str, ...]
    memory: OtherLayout | None = None
    whole: GridSurvey | None = None
    ranks: list[Ranks] = field(default_factory=list)

    @cached_property
    def cases(self) -> Cases:
        """The cases, in order of first appearance."""
        return Cases(self.table, self.case)

    @cached_property
    def _distinct(self) -> tuple[list[Occasion], Array | None]:
        """The occasions that occur here, and each row's; None if every case has all of them in this order."""
        self.cases  # noqa: B018 cases are checked first
        require_present(self.table, self.names, "an occasion", OCCASIONS_NEXT)
        if self._regular_occasions is not None:
            return self._regular_occasions, None
        groups = group_rows(self.table, self.names)
        return list(zip(*(self._to_values(groups.values[name]) for name in self.names), strict=True)), groups.codes

    @cached_property
    def first_rows(self) -> dict[Occasion, Extreme]:
        """For each occasion the number of its first row, where that may matter."""
        distinct, codes = self._distinct
        rows = np.arange(len(distinct))
        if codes is not None and any(self.table[name].type == "string" for name in self.names):
            rows = np.full(len(distinct), len(codes))
            rows[codes[::-1]] = np.arange(len(codes))[::-1]
        elif codes is not None:
            rows = np.zeros(len(distinct), np.int64)
        numbers = self.table.number_rows(rows)
        return {occasion: Extreme(number, is_maximum=False) for occasion, number in zip(distinct, numbers, strict=True)}

    @cached_property
    def survey(self) -> GridSurvey:
        """The survey of all rows."""
        if self.whole is not None:
            return self.whole
        filled = len(self.table) if self._is_without_repetition else int(np.count_nonzero(self._occupied))
        return GridSurvey(self.first_rows, len(self.cases), filled, self._show_repeated())

    @cached_property
    def occasions(self) -> tuple[Occasion, ...]:
        """The occasions that occur, in order."""
        first_rows = self.first_rows if self.whole is None else self.whole.first_rows
        appearance = sorted(first_rows, key=lambda occasion: first_rows[occasion].value)
        return tuple(appearance[index] for index in self._sort_occasions(appearance))

    @cached_property
    def _of_row(self) -> Array | None:
        """Position of each row's occasion; None if every case has all of them in order."""
        distinct, codes = self._distinct
        if distinct == list(self.occasions):
            return codes
        known = {occasion: index for index, occasion in enumerate(self.occasions)}
        positions = np.array([known[occasion] for occasion in distinct], np.int64)
        return np.tile(positions, len(self.cases)) if codes is None else positions[codes]

    @cached_property
    def _regular_occasions(self) -> list[Occasion] | None:
        """The occasions, if every case has all of them once and in the same order; else None."""
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
        return distinct if len(set(distinct)) == count else None

    @staticmethod
    def _to_values(column: Any) -> list[Any]:
        return list(column.values.tolist()) if column.type != "string" else column.cells()

    def _sort_occasions(self, distinct: list[Occasion]) -> list[int]:
        """Return the positions of occasions, given in order of appearance, in recorded order, else in the order of
        their values.
        """
        if self.memory is not None:
            types = [self.memory.types.get(name) for name in self.memory.occasions]
            known = dict.fromkeys(
                tuple(to_typed_value(value, type_) for value, type_ in zip(column_index.at, types, strict=True))
                for column_index in self.memory.places
            )
            known_rank = {occasion: index for index, occasion in enumerate(known)}
            if set(distinct) <= set(known_rank):
                return sorted(range(len(distinct)), key=lambda index: known_rank[distinct[index]])
        self.ranks = [
            rank_values(name, (occasion[index] for occasion in distinct), self.table.dictionary)
            for index, name in enumerate(self.names)
        ]
        return sorted(
            range(len(distinct)),
            key=lambda index: [rank.of[value] for rank, value in zip(self.ranks, distinct[index], strict=True)],
        )

    @property
    def order_notes(self) -> list[Note]:
        """Note where the order of the rows decides the order of the occasions."""
        self.occasions  # noqa: B018 the order is found with them
        return [note for rank in self.ranks for note in rank.notes]

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
        of_row = self._of_row
        return np.arange(self.size) if of_row is None else np.asarray(self.cases.of_row * self.times + of_row)

    def count_per_occasion(self, rows: npt.NDArray[np.bool_] | None = None) -> npt.NDArray[np.int64]:
        """Return the number of rows at each occasion, of some rows (a mask) or of all."""
        of_row = self._of_row
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
        return self._of_row is None or bool((self.cells[1:] > self.cells[:-1]).all())

    @property
    def keeps_order(self) -> bool:
        """True if the rows of each case follow each other in the whole, sorted by occasion."""
        numbers = self.table.row_numbers
        if numbers is None or not self.is_sorted:
            return self.is_sorted
        return bool((np.delete(np.diff(numbers), self.cases.starts[1:] - 1) == 1).all())

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
        if self._of_row is None:  # every case has every occasion
            return np.ones(self.size, np.bool_)
        occupied = np.zeros(self.size, np.bool_)
        occupied[self.cells] = True
        return occupied

    @cached_property
    def _is_without_repetition(self) -> bool:
        return self.is_sorted or int(np.count_nonzero(self._occupied)) == len(self.table)

    @cached_property
    def repeated(self) -> Rows:
        """Rows that share their case and occasion with another row."""
        if self._is_without_repetition:
            return np.zeros(0, np.int64)
        counts = np.bincount(self.cells, minlength=self.size)
        return np.flatnonzero(counts[self.cells] > 1)

    @property
    def seen(self) -> npt.NDArray[np.bool_]:
        """Shape (cases, occasions): True where there is a row."""
        return self._occupied.reshape(len(self.cases), self.times)

    def _show_repeated(self) -> Shown:
        """Show the first cases and occasions that have several rows."""
        if self._is_without_repetition:
            return Shown([], 0)
        counts = np.bincount(self.cells, minlength=self.size)
        return show_repeated(self.table, [*self.case, *self.names], self.cells, counts)

    def require_no_repetition(self, todo: str = REPEATED_ADVICE) -> None:
        """Stop if several rows share a case and occasion.

        Raises DataError with the rows.
        """
        repeated = self.survey.repeated
        if repeated:
            one = "case and occasion is"
            raise DataError(
                f"{repeated.total:,} {one if repeated.total == 1 else 'cases and occasions are'} in several rows.",
                where=repeated,
                todo=todo,
            )


def find_balancing_rows(table: Table, measures: Iterable[str]) -> npt.NDArray[np.bool_]:
    """Find the rows with a measure that is missing for `no-occasion`, which may only balance a panel."""
    result = np.zeros(len(table), np.bool_)
    for name in measures:
        column = table[name]
        if column.why is not None and NO_OCCASION in column.reasons:
            result |= column.why == column.reasons.index(NO_OCCASION) + 1
    return result


def find_unseen_rows(
    table: Table, case: tuple[str, ...], occasion: tuple[str, ...], varying: Mapping[str, int] | None = None
) -> npt.NDArray[np.bool_]:
    """Find the rows that only balance a panel: the case was not seen then.

    Every measure of such a row is missing, some for `no-occasion`; only constants of the case have a value. Case and
    occasion must not be missing. `varying` has the number of cases in which each measure varies, if this is a part.
    """
    measures = [name for name in table.names if name not in (*case, *occasion)]
    result = find_balancing_rows(table, measures)
    if not result.any():
        return result
    cases = Cases(table, case)
    for name in measures:
        has_value = result & ~table[name].is_missing
        if has_value.any() and (cases.find_variation(name).varies if varying is None else varying[name]):
            result &= ~has_value
    return result
