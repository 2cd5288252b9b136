"""What is known of a column from its parts: missing cells, and distinct values as far as they are few."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import rank_values
from lomrix.core.arrays.matching import count_codes
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Combinable
from lomrix.core.rows.keys import encode_cells
from lomrix.core.rows.occurrences import (
    DistinctRows,
    Occurrences,
    find_firsts,
    find_most_frequent,
    is_mostly_distinct,
)
from lomrix.core.table.column import Column
from lomrix.core.table.renaming import concatenate_columns
from lomrix.core.table.table import Table

# Distinct values of a column that are kept.
MOST_DISTINCT = 1 << 16
# Of all other columns the smallest and largest ones are kept: no more of them can be missing codes.
MOST_ENDS = 80


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

    @classmethod
    def of(cls, column: Column) -> ColumnSurvey:
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
        return cls(len(column), column.reason_counts(), decimals, shown, ends, distinct, occurrences)

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
        return ColumnSurvey(
            self.rows + later.rows, reasons, self.decimals + later.decimals,
            shown.take(find_ends(np.ones(len(shown), np.bool_))), ends, distinct,
        )  # fmt: skip

    @property
    def missing(self) -> int:
        """Number of missing cells."""
        return sum(self.reasons.values())

    @property
    def present(self) -> int:
        """Number of other cells."""
        return self.rows - self.missing


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
