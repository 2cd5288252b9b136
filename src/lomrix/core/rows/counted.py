"""Distinct rows of some columns and how often each occurs, which adds up over the parts of a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.types import Array, Counts
from lomrix.core.combining import Combinable
from lomrix.core.rows.keys import group_with_missing
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table


@dataclass(frozen=True)
class CountedRows(Combinable):
    """The distinct rows of a table, a missing cell being a value for each reason, and how often each occurs."""

    table: Table
    counts: Counts

    @classmethod
    def of(cls, table: Table, names: Sequence[str], counts: Counts | None = None) -> CountedRows:
        """Count the rows of some columns, each once, or as often as `counts` has it."""
        groups = group_with_missing(table, names)
        totals = sum_counts(groups.codes, groups.count, counts)
        return cls(replace(table, columns=groups.values, row_numbers=None), totals)

    def combine(self, later: CountedRows) -> CountedRows:
        """Add the rows of a later part."""
        table = concatenate_tables([self.table, later.table])
        return CountedRows.of(table, table.names, np.concatenate([self.counts, later.counts]))

    @property
    def total(self) -> int:
        """Number of rows that were counted."""
        return int(self.counts.sum())

    def choose(self, rows: Array) -> CountedRows:
        """Return some of the distinct rows."""
        return CountedRows(self.table.take(rows), self.counts[rows])

    def count_reasons(self, name: str) -> dict[str, int]:
        """Return how many cells of a column are missing for each reason, in the order of their names."""
        column = self.table[name]
        if column.why is None:
            return {}
        counts = sum_counts(column.why.astype(np.int64) - 1, len(column.reasons), self.counts)
        return {reason: count for reason, count in sorted(zip(column.reasons, counts.tolist(), strict=True)) if count}
