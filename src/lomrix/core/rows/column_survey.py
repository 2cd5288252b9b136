"""What is known of a column from its parts: missing cells, and distinct values as far as they are few."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import rank_values
from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.matching import count_codes
from lomrix.core.arrays.order_statistics import find_order_statistics
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Combinable, Extreme
from lomrix.core.rows.keys import encode_cells
from lomrix.core.rows.occurrences import (
    BLOCK,
    DistinctRows,
    Occurrences,
    count_occurrences,
    find_firsts,
    find_most_frequent,
    is_mostly_distinct,
)
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import LEAST_OTHERS, guess_missing_codes
from lomrix.core.table.renaming import concatenate_columns
from lomrix.core.table.table import Table

# Distinct values of a column that are kept.
MOST_DISTINCT = 1 << 16
# Of all other columns the smallest and largest ones are kept: no more of them can be missing codes.
MOST_ENDS = 80
NUMERIC = ("integer", "number")
# Bytes that a distinct value takes while such are counted, and a row while rows are compared, as measured.
COUNTED_SIZE, COMPARED_SIZE = 120, 24


def iterate_blocks(column: Column) -> Iterator[tuple[int, Column]]:
    """Yield the cells some rows at a time, with the first row of each block."""
    for start in range(0, max(len(column), 1), BLOCK):
        yield start, column.slice(start, min(start + BLOCK, len(column)))


def iterate_values(column: Column) -> Iterator[Array]:
    """Yield the numbers of a column that are present, some rows at a time; days and moments as whole numbers."""
    for _, block in iterate_blocks(column):
        values = block.values if block.why is None else block.values[~block.is_missing]
        yield values.astype(np.int64) if column.type in ("date", "datetime") else values


@dataclass(frozen=True)
class ColumnSurvey(Combinable):
    """What is known of a column from its parts.

    Its distinct values are kept if they are few; of others only the ends, so that their number must be counted over
    all rows, unless there is one part.
    """

    rows: int
    reasons: dict[str, int]
    decimals: int  # numbers that are not whole
    shown: Column  # the first value and the last one
    ends: Column | None  # numbers and dates: the lowest and highest distinct values, in their order
    distinct: DistinctRows | None
    occurrences: Occurrences | None = None
    sums: CrossProducts | None = None  # of numbers, where these are wanted

    @classmethod
    def of(cls, column: Column, *, with_sums: bool = False) -> ColumnSurvey:
        """Survey a column, or a part of one."""
        ends: Column | None = None
        values = np.zeros(0)
        if column.type in ("string", "boolean"):
            codes, size = encode_cells(column)
        else:
            codes, values = rank_values(column.values, column.is_missing)
            size, ends = len(values), cut_ends(Column.of(column.type, values))
        counts = count_codes(codes, size)
        distinct: DistinctRows | None = None
        occurrences = Occurrences.of(counts)
        if occurrences.distinct <= MOST_DISTINCT:
            distinct = DistinctRows.of_codes(Table({"value": column}), codes, counts)
        elif not is_mostly_distinct(occurrences.distinct, len(column)):
            occurrences = Occurrences.of(counts, find_most_frequent(counts, find_firsts(codes, counts)))
        decimals = int(counts[values % 1 != 0].sum()) if column.type == "number" else 0
        shown = column.take(find_ends(codes >= 0))
        sums: CrossProducts | None = None
        if with_sums and column.type in NUMERIC:
            sums = CrossProducts.of([column.values[~column.is_missing].astype(np.float64)])
        return cls(len(column), column.reason_counts(), decimals, shown, ends, distinct, occurrences, sums)

    def combine(self, later: ColumnSurvey) -> ColumnSurvey:
        """Add what is known of later rows."""
        distinct: DistinctRows | None = None
        if self.distinct is not None and later.distinct is not None:
            distinct = self.distinct.combine(later.distinct)
            distinct = distinct if len(distinct.counts) <= MOST_DISTINCT else None
        reasons = {name: self.reasons.get(name, 0) + later.reasons.get(name, 0) for name in
                   sorted({*self.reasons, *later.reasons})}  # fmt: skip
        shown = concatenate_columns([self.shown, later.shown], self.shown.type)
        ends: Column | None = None
        if self.ends is not None and later.ends is not None:
            both = concatenate_columns([self.ends, later.ends], self.ends.type)
            ends = cut_ends(Column.of(both.type, np.unique(both.values)))
        sums = self.sums.combine(later.sums) if self.sums is not None and later.sums is not None else None
        return ColumnSurvey(
            self.rows + later.rows, reasons, self.decimals + later.decimals,
            shown.take(find_ends(np.ones(len(shown), np.bool_))), ends, distinct, sums=sums,
        )  # fmt: skip

    @property
    def missing(self) -> int:
        """Number of missing cells."""
        return sum(self.reasons.values())

    @property
    def present(self) -> int:
        """Number of other cells."""
        return self.rows - self.missing

    def find_at(self, column: Column, positions: Sequence[int]) -> Array:
        """Return the values at some ascending positions (from 0) of the sorted values of the surveyed column; days and
        moments as whole numbers.
        """
        if self.distinct is None:
            return find_order_statistics(lambda: iterate_values(column), self.present, positions)
        (values,) = iterate_values(self.distinct.values)
        order = np.argsort(values)
        return np.asarray(values[order][np.searchsorted(np.cumsum(self.distinct.counts[order]), positions, "right")])


@dataclass(frozen=True)
class TableSurvey(Combinable):
    """What is known of a table from its parts: each column, and how many rows the largest part has."""

    columns: dict[str, ColumnSurvey]
    part: Extreme

    @classmethod
    def of(cls, table: Table, *, with_sums: bool = False) -> TableSurvey:
        """Survey each column."""
        columns = table.columns.values()
        surveys = map_in_threads(lambda column: ColumnSurvey.of(column, with_sums=with_sums), columns, most=2)
        return cls(dict(zip(table.names, surveys, strict=True)), Extreme(len(table), is_maximum=True))

    def combine(self, later: TableSurvey) -> TableSurvey:
        """Add what is known of later rows."""
        columns = {name: survey.combine(later.columns[name]) for name, survey in self.columns.items()}
        return TableSurvey(columns, self.part.combine(later.part))


@dataclass
class SurveyedTable:
    """A table with its survey; what that leaves open is looked for in the table, some rows at a time, in the memory of
    the largest part, whose cells take `cell_size` bytes.
    """

    table: Table
    survey: TableSurvey
    cell_size: int
    counted: dict[str, Occurrences] = field(default_factory=dict)

    @cached_property
    def _size(self) -> int:
        return int(self.survey.part.value) * len(self.table.names) * self.cell_size

    @property
    def most_distinct(self) -> int:
        """Number of distinct values that may be counted at once."""
        return self._size // COUNTED_SIZE + 1

    @property
    def rows_at_once(self) -> int | None:
        """Number of rows that may be compared at once; None for all."""
        return None if self.survey.part.value == len(self.table) else self._size // COMPARED_SIZE + 1

    def get_occurrences(self, name: str) -> Occurrences:
        """Return how often each value of a column occurs."""
        if name not in self.counted:
            known = self.survey.columns[name].occurrences
            self.counted[name] = count_occurrences(self.table[name], self.most_distinct) if known is None else known
        return self.counted[name]

    def count_distinct(self, name: str) -> int:
        """Return the number of distinct values of a column."""
        distinct = self.survey.columns[name].distinct
        return self.get_occurrences(name).distinct if distinct is None else len(distinct.counts)

    def list_most_frequent(self, name: str, most: int) -> list[tuple[str, int]]:
        """Return the most frequent values of a column and their numbers of cells."""
        distinct = self.survey.columns[name].distinct
        if distinct is None:
            counts, rows = zip(*self.get_occurrences(name).most_frequent[:most], strict=True)
            values = self.table[name].take(np.array(rows))
        else:
            order = np.argsort(-distinct.counts, kind="stable")[:most]
            values, counts = distinct.values.take(order), tuple(distinct.counts[order].tolist())
        return list(zip(values.to_text().to_pylist(), counts, strict=True))

    def guess_codes(self, name: str) -> list[int]:
        """Return what look like undeclared missing codes in a column."""
        survey, dictionary = self.survey.columns[name], self.table.dictionary
        if survey.ends is None:
            return []
        values = survey.ends
        if survey.distinct is not None:
            # Few others show nothing; how many more there are does not matter.
            values = survey.distinct.values.repeat(np.minimum(survey.distinct.counts, LEAST_OTHERS))
        return guess_missing_codes(values, dictionary.of(name), dictionary.labels_of(name))


def cut_ends(values: Column) -> Column:
    """Return the first and the last values of a sorted column."""
    if len(values) <= 2 * MOST_ENDS:
        return values
    return values.take(np.concatenate([np.arange(MOST_ENDS), np.arange(len(values) - MOST_ENDS, len(values))]))


def find_ends(present: npt.NDArray[np.bool_]) -> Array:
    """Return the first and the last row that are marked."""
    if not present.any():
        return np.zeros(0, np.int64)
    return np.array([present.argmax(), len(present) - 1 - present[::-1].argmax()])
