"""Discretion: which counts of a page must not be shown, since too few cases stand behind them or behind the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import dense
from lomrix.core.arrays.suppression import Tree, count_cases, protect
from lomrix.core.rows.described import DescribedVariable
from lomrix.core.rows.keys import row_codes
from lomrix.core.steps.report.content import Bar, TellingVariable
from lomrix.core.steps.report.distribution import Distribution
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table

Mask = npt.NDArray[np.bool_]
Whole = npt.NDArray[np.int64]
# What a page may show of one variable, in the order of the numbers: values, missing cells, both.
PRESENT, MISSING, ALL = 0, 1, 2


def mask_number(number: int, hidden: object) -> int | None:
    """A number, or none where it must not be shown."""
    return None if hidden else number


@dataclass(frozen=True)
class Discretion:
    """What must not be shown of a table.

    Parameters
    ----------
    min_n
        Numbers of fewer cases are hidden; 0 for none.
    cases
        Case of each row (-1: unknown); each row is one where None.
    """

    min_n: int = 0
    cases: Whole | None = None

    @classmethod
    def of(cls, table: Table, case: Sequence[str], min_n: int) -> Discretion:
        """The discretion of a page about a table, which counts cases where they are named."""
        if not case or not min_n:
            return cls(min_n)
        codes, size = row_codes(table, tuple(case))
        return cls(min_n, dense(codes, max(size, 1))[0])

    def take(self, rows: Whole) -> Discretion:
        """The same for some of the rows."""
        return self if self.cases is None else replace(self, cases=self.cases[rows])

    def too_few(self, cells: Whole, count: int) -> Mask:
        """The cells behind which some rows and too few cases stand; -1 for rows of no cell."""
        rows = np.bincount(cells[cells >= 0], minlength=count)
        return (rows > 0) & (count_cases(cells, count, self.cases) < self.min_n)

    def describe(self, found: DescribedVariable, column: Column, parts: Distribution) -> TellingVariable:
        """What a page tells of a variable.

        The cells of the variable are a table of one column: each part and each reason is a cell, with the values, the
        missing cells and the rows as its totals.
        """
        count, reasons = len(parts.labels) + 1, list(found.missing)
        cells = parts.part.copy()
        if column.why is not None:
            for at, reason in enumerate(reasons):
                cells[column.why == column.reasons.index(reason) + 1] = count + at
        parents = [np.repeat([PRESENT, MISSING], [count, max(len(reasons), 1)]), np.zeros(2, np.int64)]
        masks = Tree(cells, parents, count + max(len(reasons), 1), self.cases, self.min_n).suppressed()
        parts_hidden, totals_hidden = masks[0], masks[1]
        bars = [Bar(label, mask_number(int(cells), hidden))
                for label, cells, hidden in zip(parts.labels, parts.counts, parts_hidden, strict=False)]  # fmt: skip
        more = parts.more
        if parts.is_of_values and not parts.is_labelled and column.type in ("string", "boolean"):
            # A value whose count is hidden may be a person's.
            shown = [bar for bar in bars if bar.cells is not None]
            more, bars = more + len(bars) - len(shown), shown
        missing = {
            reason: mask_number(number, parts_hidden[count + at])
            for at, (reason, number) in enumerate(found.missing.items())
        }
        gone = sum(found.missing.values())
        return TellingVariable(
            self._summary(found, parts, parts_hidden[:count].any(), totals_hidden[PRESENT]), tuple(bars), more,
            mask_number(found.present, totals_hidden[PRESENT]), missing,
            None if totals_hidden.any() else gone / max(found.present + gone, 1),
        )  # fmt: skip

    def _summary(
        self, found: DescribedVariable, parts: Distribution, hides_parts: object, hides_all: object
    ) -> DescribedVariable:
        """A variable without what would tell of single people."""
        if not self.min_n:
            return found
        # The mean of few different values, with the counts of all but two of them, gives those two away.
        bare = hides_all or (hides_parts and parts.is_of_values)
        return replace(
            found, smallest="", largest="",
            mean=None if bare else found.mean, deviation=None if bare else found.deviation,
            median=None if hides_all else found.median,
        )  # fmt: skip

    def hide_over_time(self, numbers: Whole, small: Mask) -> Mask:
        """Which numbers of who was seen when must not be shown.

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
        for at in range(times):  # who was seen so far is seen now or lost
            equations[at, [seen[at], lost[at]]] = 1
            equations[at, new[: at + 1]] = -1
        equations[times, new] = 1
        equations[times, -1] = -1
        values = np.append(numbers.ravel(), numbers[1].sum())
        first = np.append(small[:, :times].ravel(), small[0, times])
        return protect(equations, values, first, np.zeros(len(values), np.bool_))

    def hide_gaps(self, counts: Whole, small: Mask, totals: Mask) -> Mask:
        """Which numbers of missing cells at each occasion must not be shown.

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
        cell = np.arange(kinds * times).reshape(kinds, times)
        whole = kinds * times + np.arange(times)
        total = whole[-1] + 1 + np.arange(kinds)
        equations = np.zeros((2 * times + kinds, total[-1] + 1))
        for at in range(times):
            equations[at, cell[:, at]] = 1  # all of them are the rows, which are known
            equations[times + at, cell[1:, at]] = 1
            equations[times + at, whole[at]] = -1
        for kind in range(kinds):
            equations[2 * times + kind, cell[kind]] = 1
            equations[2 * times + kind, total[kind]] = -1
        gone = counts[1:].sum(axis=0)
        values = np.concatenate([counts.ravel(), gone, counts.sum(axis=1)])
        first = np.concatenate([small.ravel(), small[0] | small[1:].any(axis=0) & (kinds == 2), totals])
        fixed = np.zeros(len(values), np.bool_)
        fixed[total] = ~totals
        hidden = protect(equations, values, first, fixed)
        found = hidden[: kinds * times].reshape(kinds, times).copy()
        found[0] |= hidden[whole]
        return found
