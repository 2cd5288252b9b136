"""Differences between groups, adjusted for covariates: least squares with groups and covariates."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.differences import student_test
from lomrix.core.arrays.regression import AddedColumns, Condensed, LeastSquares, compare_fits
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import rank_cells
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.account import Balance, Listing, Part
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.steps.compare.words import format_interval, format_number, format_p
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

Numbers = npt.NDArray[np.float64]
METHOD, F_METHOD = "adjusted least squares", "analysis of covariance"
MOST_CODES = 50
# An interaction with a lower p than this is noted, and a variance that is inflated more than this.
SLOPES_DIFFER, INFLATED = 0.05, 10.0


@dataclass(frozen=True, eq=False)
class Covariate:
    """A covariate in the rows that are compared: one column of numbers, or one for each code but the first."""

    name: str
    labels: tuple[str, ...]  # of its columns
    columns: Numbers  # shape (rows, columns)


@dataclass
class AdjustedComparison:
    """The groups of one measure, compared at equal values of the covariates."""

    table: Table
    sides: Sides
    measure: str
    column: Column
    names: list[str]  # of the covariates
    title: str

    @cached_property
    def rows(self) -> Array:
        """The rows that have a group, a value and all covariates."""
        present = (self.sides.groups.codes >= 0) & ~self.column.is_missing
        for name in self.names:
            present = present & ~self.table[name].is_missing
        return np.flatnonzero(present)

    @cached_property
    def covariates(self) -> list[Covariate]:
        """The covariates: numbers as they are, codes and words as groups."""
        result = []
        for name in self.names:
            column, labels = self.table[name].take(self.rows), self.table.dictionary.labels_of(name)
            if column.type in ("integer", "number") and not labels:
                result.append(Covariate(name, (name,), column.values.astype(np.float64)[:, None]))
                continue
            if column.type in ("date", "datetime"):
                raise UsageError(
                    f"{name} is {column.type}, so nothing can be adjusted for it.",
                    todo="Derive a number first, such as days_between(start, visit_date).",
                    columns=[name],
                )
            ranks, count = rank_cells(column)
            first = np.zeros(count, np.int64)
            first[ranks[::-1]] = np.arange(len(ranks))[::-1]
            used = np.bincount(ranks, minlength=count) > 0
            if np.count_nonzero(used) > MOST_CODES:
                raise UsageError(
                    f"{name} has {np.count_nonzero(used):,} values, too many for groups.", todo="Recode it first.",
                    columns=[name],
                )  # fmt: skip
            values = np.flatnonzero(used)[1:]
            codes = CodeList(labels)
            texts = [codes.label_of(text) or text for text in column.take(first[values]).to_text().to_pylist()]
            columns = (ranks[:, None] == values).astype(np.float64)
            result.append(Covariate(name, tuple(f"{name} {text}" for text in texts), columns))
        return result

    @cached_property
    def _condensed(self) -> Condensed:
        """The covariates, the groups but the first, and their products, with the measure."""
        codes = self.sides.groups.codes[self.rows]
        groups = (codes[:, None] == np.arange(1, self.sides.groups.count)).astype(np.float64)
        columns = [covariate.columns for covariate in self.covariates]
        centred = [part - part.mean(axis=0) for part in columns]
        products = [(part[:, :, None] * groups[:, None, :]).reshape(len(groups), -1) for part in centred]
        return Condensed.of(np.hstack([*columns, groups, *products]), self.values)

    @cached_property
    def values(self) -> Numbers:
        """The measure."""
        return self.column.values.astype(np.float64)[self.rows]

    @cached_property
    def is_possible(self) -> bool:
        """True if rows are left."""
        return len(self.rows) > 0

    @cached_property
    def fit(self) -> LeastSquares:
        """The fit with covariates and groups."""
        return self._condensed.fit(range(self._first_group + self.sides.groups.count - 1))

    @property
    def _first_group(self) -> int:
        return sum(len(covariate.labels) for covariate in self.covariates)

    def list_tests(self) -> list[dict[str, Any]]:
        """Return the difference of each group from the first, and if there are more, the test of all."""
        texts, between = self.sides.texts, self.sides.between
        base = {"measure": self.measure, "n": len(self.rows)}
        adjusted = f"adjusted for {shorten_list(self.names, 4)}"
        if not self.is_possible:
            return [{**base, "comparison": adjusted, "method": METHOD, "statistic": np.nan, "effect": np.nan}]
        tests: list[dict[str, Any]] = []
        for index, text in enumerate(texts[1:]):
            position = self._first_group + index
            is_used = bool(self.fit.used[position])
            estimate = float(self.fit.slopes[position]) if is_used else np.nan
            low, high, t, p = student_test(estimate, float(self.fit.errors[position]), self.fit.df)
            tests.append({
                **base, "comparison": f"{between} {text} less {texts[0]}, {adjusted}", "method": METHOD,
                "difference": estimate, "low": low, "high": high, "statistic": t, "df": self.fit.df, "p": p,
                "effect": t**2 / (t**2 + self.fit.df),
            })  # fmt: skip
        if len(texts) > 2:
            test = compare_fits(self._condensed.fit(range(self._first_group)), self.fit)
            tests.append({**base, "comparison": f"{len(texts)} groups, {adjusted}", "method": F_METHOD, **vars(test)})
        return tests

    def compute_means(self) -> list[tuple[float, float, float]]:
        """Return for each group the mean at the covariates' means, and the ends of its 95 % interval.

        They are NaN if the covariates determine the groups.
        """
        means = []
        if not self.fit.used[self._first_group :].all():
            return [(np.nan, np.nan, np.nan)] * self.sides.groups.count
        for group in range(self.sides.groups.count):
            values = self.fit.means.copy()
            values[self._first_group :] = np.arange(1, self.sides.groups.count) == group
            mean, error = self.fit.predict(values)
            low, high, *_ = student_test(mean, error, self.fit.df)
            means.append((mean, low, high))
        return means

    # ------------------------------------------------------------------ account

    def make_balance(self) -> Balance:
        """Balance the rows: compared, and left out by the first thing that is missing."""
        remaining = np.ones(len(self.table), np.bool_)
        parts = [Part("kept", len(self.rows), "compared")]
        for name in (self.sides.between, self.measure, *self.names):
            column = self.column if name == self.measure else self.table[name]
            counts = column.take(np.flatnonzero(remaining)).reason_counts()
            parts += [Part("missing", count, "value", name, reason) for reason, count in counts.items()]
            remaining &= ~column.is_missing
        return Balance("rows for", len(self.table), tuple(parts), self.measure)

    def make_listings(self) -> list[Listing]:
        """List the adjusted means beside the observed ones, and the slopes of the covariates."""
        if not self.is_possible:
            return []
        codes = self.sides.groups.codes[self.rows]
        lines: list[tuple[object, ...]] = []
        for index, (text, (mean, low, high)) in enumerate(zip(self.sides.texts, self.compute_means(), strict=True)):
            inside = self.values[codes == index]
            observed = float(inside.mean()) if len(inside) else np.nan
            adjusted = mean if len(inside) else np.nan
            lines.append((text, len(inside), format_number(observed), format_number(adjusted),
                          format_interval(low, high)))  # fmt: skip
        heads = (self.sides.between, "values", "mean", "adjusted mean", "95 % interval")
        labels = [label for covariate in self.covariates for label in covariate.labels]
        slopes = []
        for index, label in enumerate(labels):
            slope = float(self.fit.slopes[index]) if self.fit.used[index] else np.nan
            low, high, _, p = student_test(slope, float(self.fit.errors[index]), self.fit.df)
            slopes.append((label, format_number(slope), format_interval(low, high), format_p(p).removeprefix("= ")))
        return [
            Listing(f"{self.title}, at the means of the covariates", heads, tuple(lines)),
            Listing("covariates", ("covariate", "slope", "95 % interval", "p"), tuple(slopes)),
        ]

    def make_notes(self) -> list[Note]:
        """Note slopes that differ by group, and covariates that tell the same."""
        if not self.is_possible:
            return []
        notes = []
        for covariate in self.covariates:
            test = self._test_interaction(covariate)
            if test.p < SLOPES_DIFFER:
                text = f"the slope of {covariate.name} differs by {self.sides.between} (interaction p "
                text += f"{format_p(test.p)}), so one adjusted difference does not hold for all of its values."
                notes.append(Note(text, self.measure, (), "slopes-differ", 1))
        labels = [label for covariate in self.covariates for label in covariate.labels]
        labels += [f"{self.sides.between} {text}" for text in self.sides.texts[1:]]
        unused = [label for label, is_used in zip(labels, self.fit.used.tolist(), strict=True) if not is_used]
        if unused:
            text = f"left out, since the other columns determine it or it does not vary: {shorten_list(unused)}."
            notes.append(Note(text, self.measure, (), "collinear", len(unused)))
        inflated = [
            label for label, factor in zip(labels, self.fit.inflation.tolist(), strict=True) if factor > INFLATED
        ]
        if inflated:
            text = f"nearly collinear, so their slopes are uncertain: {shorten_list(inflated)}."
            notes.append(Note(text, self.measure, (), "collinear", len(inflated)))
        return notes

    def _test_interaction(self, covariate: Covariate) -> AddedColumns:
        """Test whether the slope of a covariate differs between the groups."""
        groups = self.sides.groups.count - 1
        before = sum(len(other.labels) for other in self.covariates[: self.covariates.index(covariate)])
        first = self._first_group + groups + before * groups
        products = range(first, first + len(covariate.labels) * groups)
        return compare_fits(self.fit, self._condensed.fit([*range(self._first_group + groups), *products]))


def require_numbers(column: Column, name: str, *, has_codes: bool) -> None:
    """Stop if a measure cannot be adjusted."""
    if column.type not in NUMERIC or has_codes:
        raise UsageError(
            f"{name} holds codes, whose counts cannot be adjusted." if has_codes else
            f"{name} is {column.type}, which cannot be adjusted.",
            todo="Name measures of numbers" + (", or use ‹as_numbers› for means." if has_codes else "."),
            columns=[name],
        )  # fmt: skip
