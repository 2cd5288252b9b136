"""Discretion: which counts of a page are hidden, since too few cases are behind them or the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import compact_codes
from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.suppression import Tree, count_cases, protect
from lomrix.core.rows.column_survey import iterate_blocks
from lomrix.core.rows.described import VariableSummary
from lomrix.core.rows.keys import encode_rows
from lomrix.core.steps.report.content import Bar, PageVariable
from lomrix.core.steps.report.distribution import Distribution
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table

Mask = npt.NDArray[np.bool_]
Whole = npt.NDArray[np.int64]
# The totals that a page may show of a variable: values, missing cells, both.
PRESENT, MISSING, ALL = 0, 1, 2


def mask_number(number: int, hidden: object) -> int | None:
    """Return a number, or None if it is hidden."""
    return None if hidden else number


@dataclass(frozen=True)
class Discretion:
    """What must be hidden of a table."""

    min_n: int = 0  # numbers of fewer cases are hidden; 0 for none
    cases: Whole | None = None  # case of each row (-1: unknown); each row is one where None

    @classmethod
    def for_table(cls, table: Table, case: Sequence[str], min_n: int) -> Discretion:
        """Return the discretion of a page, which counts cases if they are named."""
        if not case or not min_n:
            return cls(min_n)
        codes, size = encode_rows(table, tuple(case))
        return cls(min_n, compact_codes(codes, max(size, 1))[0])

    def take(self, rows: Whole) -> Discretion:
        """Return the discretion for some of the rows."""
        return self if self.cases is None else replace(self, cases=self.cases[rows])

    def find_small(self, cells: Whole, count: int) -> Mask:
        """Return the cells with some rows but too few cases; -1 for rows of no cell."""
        rows = np.bincount(cells[cells >= 0], minlength=count)
        return (rows > 0) & (count_cases(cells, count, self.cases) < self.min_n)

    def describe(self, summary: VariableSummary, column: Column, parts: Distribution) -> PageVariable:
        """Return what a page shows of a variable.

        Its cells form a table of one column: each part and each reason is a cell; values, missing cells and rows are
        its totals.
        """
        count, reasons = len(parts.labels) + 1, list(summary.missing)
        parents = [np.repeat([PRESENT, MISSING], [count, max(len(reasons), 1)]), np.zeros(2, np.int64)]
        cells, cases, counts = self._count_cells(column, parts, summary.missing)
        masks = Tree(cells, parents, count + max(len(reasons), 1), cases, self.min_n, counts).suppress()
        parts_hidden, totals_hidden = masks[0], masks[1]
        bars = [Bar(label, mask_number(int(cells), hidden))
                for label, cells, hidden in zip(parts.labels, parts.counts, parts_hidden, strict=False)]  # fmt: skip
        more = parts.more
        if parts.is_of_values and not parts.is_labelled and column.type in ("string", "boolean"):
            # A value with a hidden count may identify a person.
            shown = [bar for bar in bars if bar.cells is not None]
            more, bars = more + len(bars) - len(shown), shown
        missing = {
            reason: mask_number(number, parts_hidden[count + index])
            for index, (reason, number) in enumerate(summary.missing.items())
        }
        missing_count = sum(summary.missing.values())
        return PageVariable(
            self._limit_summary(summary, parts, parts_hidden[:count].any(), totals_hidden[PRESENT]), tuple(bars), more,
            mask_number(summary.present, totals_hidden[PRESENT]), missing,
            None if totals_hidden.any() else missing_count / max(summary.present + missing_count, 1),
        )  # fmt: skip

    def _count_cells(
        self, column: Column, parts: Distribution, missing: Mapping[str, int]
    ) -> tuple[Whole, Whole | None, Whole]:
        """Return the part or reason of rows, their case, and how many rows have both."""
        if self.cases is None:
            counts = np.append(parts.counts, np.array([*missing.values()], np.int64))
            return np.arange(len(counts)), None, counts
        size, pairs = int(self.cases.max(initial=-1)) + 2, []
        for start, block in iterate_blocks(column):
            cells = parts.assign(block)
            for index, reason in enumerate(missing if block.why is not None else ()):
                cells[block.why == block.reasons.index(reason) + 1] = len(parts.counts) + index
            pairs.append(np.unique(cells * size + self.cases[start : start + len(block)] + 1, return_counts=True))
        codes, positions = np.unique(np.concatenate([code for code, _ in pairs]), return_inverse=True)
        counts = sum_counts(positions, len(codes), np.concatenate([count for _, count in pairs]))
        return codes // size, codes % size - 1, counts

    def _limit_summary(
        self, summary: VariableSummary, parts: Distribution, hides_parts: object, hides_all: object
    ) -> VariableSummary:
        """Return a summary without what would reveal single persons."""
        if not self.min_n:
            return summary
        # The mean of few distinct values, with the counts of all but two of them, reveals those two.
        reveals_parts = hides_all or (hides_parts and parts.is_of_values)
        return replace(
            summary, minimum="", maximum="",
            mean=None if reveals_parts else summary.mean, deviation=None if reveals_parts else summary.deviation,
            median=None if hides_all else summary.median,
        )  # fmt: skip

    def hide_over_time(self, numbers: Whole, small: Mask) -> Mask:
        """Return which numbers of who was seen when must be hidden.

        Parameters
        ----------
        numbers
            Shape (4, t): cases seen, new, back after a gap, and seen before but not now, at each of t occasions.
        small
            Shape (4, t + 1): numbers that are hidden for their own sake; the last column is that of all cases.
        """
        times = numbers.shape[1]
        seen, new, _, lost = (np.arange(times) + row * times for row in range(4))
        equations = np.zeros((times + 1, 4 * times + 1))
        for time in range(times):  # whoever was seen so far is seen now or lost
            equations[time, [seen[time], lost[time]]] = 1
            equations[time, new[: time + 1]] = -1
        equations[times, new] = 1
        equations[times, -1] = -1
        values = np.append(numbers.ravel(), numbers[1].sum())
        first = np.append(small[:, :times].ravel(), small[0, times])
        return protect(equations, values, first, np.zeros(len(values), np.bool_))

    def hide_gaps(self, counts: Whole, small: Mask, totals: Mask) -> Mask:
        """Return which numbers of missing cells at each occasion must be hidden.

        Parameters
        ----------
        counts
            Shape (k, t): cells with a value, then those missing for each reason, at each of t occasions.
        small
            Shape (k, t): numbers that are hidden for their own sake.
        totals
            Shape (k,): whether the number over all occasions is hidden elsewhere.

        Returns
        -------
        Shape (k, t), the first row being for all missing cells together: with the rows they tell those with a value.
        """
        kinds, times = counts.shape
        cells = np.arange(kinds * times).reshape(kinds, times)
        missing_totals = kinds * times + np.arange(times)
        totals_index = missing_totals[-1] + 1 + np.arange(kinds)
        equations = np.zeros((2 * times + kinds, totals_index[-1] + 1))
        for time in range(times):
            equations[time, cells[:, time]] = 1  # all together are the rows, which are known
            equations[times + time, cells[1:, time]] = 1
            equations[times + time, missing_totals[time]] = -1
        for kind in range(kinds):
            equations[2 * times + kind, cells[kind]] = 1
            equations[2 * times + kind, totals_index[kind]] = -1
        missing = counts[1:].sum(axis=0)
        values = np.concatenate([counts.ravel(), missing, counts.sum(axis=1)])
        first = np.concatenate([small.ravel(), small[0] | small[1:].any(axis=0) & (kinds == 2), totals])
        fixed = np.zeros(len(values), np.bool_)
        fixed[totals_index] = ~totals
        hidden = protect(equations, values, first, fixed)
        result = hidden[: kinds * times].reshape(kinds, times).copy()
        result[0] |= hidden[missing_totals]
        return result
