"""Groups compared at equal values of covariates: adjusted differences, means and slopes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts, to_float
from lomrix.core.arrays.differences import student_test
from lomrix.core.arrays.regression import AddedColumns, Condensed, LeastSquares, compare_fits
from lomrix.core.errors import UsageError
from lomrix.core.steps.account import Listing
from lomrix.core.steps.compare.sides import Sides, sort_values
from lomrix.core.steps.compare.survey import Choice
from lomrix.core.steps.compare.words import format_interval, format_number, format_p
from lomrix.core.table.codes import CodeList
from lomrix.core.table.notes import Note
from lomrix.core.wording import shorten_list

METHOD, F_METHOD = "adjusted least squares", "analysis of covariance"
# An interaction with a lower p than this is noted, and a variance that is inflated more than this.
SLOPES_DIFFER, INFLATED = 0.05, 10.0


@dataclass(frozen=True)
class Covariate:
    """A covariate: one column of numbers, or one for each code but the first."""

    name: str
    labels: tuple[str, ...]  # of its columns
    position: int  # among the numbers of each row, or among the codes
    codes: tuple[Any, ...] = ()  # the code of each column; none for numbers


@dataclass
class AdjustedComparison:
    """The groups of one measure, compared at equal values of the covariates.

    `sums` are of the covariates that are numbers and of the measure, for each side and values of the others.
    """

    choice: Choice
    sides: Sides
    measure: str
    sums: Mapping[tuple[Any, ...], CrossProducts]
    title: str

    @property
    def names(self) -> list[str]:
        """The covariates."""
        return self.choice.covariates

    @property
    def count(self) -> int:
        """Number of rows that have a group, a value and all covariates."""
        return sum(sums.n for sums in self.sums.values())

    @cached_property
    def covariates(self) -> list[Covariate]:
        """The covariates: numbers as they are, codes and words as groups."""
        result, dictionary = [], self.choice.table.dictionary
        for name in self.names:
            type_ = self.choice.table[name].type
            if self.choice.is_number(name):
                result.append(Covariate(name, (name,), self.choice.others.index(name)))
                continue
            if type_ in ("date", "datetime") and not dictionary.labels_of(name):
                raise UsageError(
                    f"{name} is {type_}, so nothing can be adjusted for it.",
                    todo="Derive a number first, such as days_between(start, visit_date).",
                    columns=[name],
                )
            position, codes = self.choice.groups.index(name), CodeList(dictionary.labels_of(name))
            values = sort_values(type_, list({key[position] for key in self.sums}))
            texts = [f"{name} {codes.label_of(text) or text}" for text in values.to_text().to_pylist()]
            result.append(Covariate(name, tuple(texts[1:]), position, tuple(values.cells()[1:])))
        return result

    @cached_property
    def _condensed(self) -> Condensed:
        """The covariates, the groups but the first, and their products, with the measure.

        Within a cell of equal codes each column is a multiple of a number or of 1, so that its sums follow from those
        of the cell.
        """
        groups = len(self.sides.texts) - 1
        first, width = self._first_group, self._first_group + groups
        size = width + first * groups + 2  # with the measure, and a column of ones for the sums
        totals = np.full((size, size), Fraction(0))
        for key, cell in self.sums.items():
            columns = {index: source for index, source in enumerate(self._list_columns(key)) if source is not None}
            side = self.sides.keys.index(key[0])
            if side:
                products = {width + index * groups + side - 1: source for index, source in columns.items()}
                columns |= {first + side - 1: -1, **products}
            columns |= {size - 2: len(cell.sums) - 1, size - 1: -1}
            filled, sources = list(columns), list(columns.values())
            totals[np.ix_(filled, filled)] += extend_by_ones(cell)[np.ix_(sources, sources)]
        # Products are of distances from the mean, so that each slope is that at the mean of the others.
        change = np.eye(size, dtype=int).astype(object)
        for index in range(first):
            mean = totals[index, -1] / totals[-1, -1]
            for group in range(groups):
                change[width + index * groups + group, first + group] = -mean
        totals = multiply_sparsely(change, multiply_sparsely(change, totals).T)
        return Condensed.of(CrossProducts(self.count, totals[:-1, -1], totals[:-1, :-1]))

    def _list_columns(self, key: tuple[Any, ...]) -> list[int | None]:
        """Return for each column of the covariates which number of a cell it is, -1 for a 1 and None for a 0."""
        result: list[int | None] = []
        for covariate in self.covariates:
            codes = [-1 if key[covariate.position] == code else None for code in covariate.codes]
            result += codes if covariate.codes or not covariate.labels else [covariate.position]
        return result

    @cached_property
    def is_possible(self) -> bool:
        """True if rows are left."""
        return self.count > 0 and bool(self.covariates)

    @cached_property
    def fit(self) -> LeastSquares:
        """The fit with covariates and groups."""
        return self._condensed.fit(range(self._first_group + len(self.sides.texts) - 1))

    @property
    def _first_group(self) -> int:
        return sum(len(covariate.labels) for covariate in self.covariates)

    def list_tests(self) -> list[dict[str, Any]]:
        """Return the difference of each group from the first, and if there are more, the test of all."""
        texts, between = self.sides.texts, self.sides.between
        base = {"measure": self.measure, "n": self.count}
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
            return [(np.nan, np.nan, np.nan)] * len(self.sides.texts)
        for group in range(len(self.sides.texts)):
            values = self.fit.means.copy()
            values[self._first_group :] = np.arange(1, len(self.sides.texts)) == group
            mean, error = self.fit.predict(values)
            low, high, *_ = student_test(mean, error, self.fit.df)
            means.append((mean, low, high))
        return means

    def make_listings(self) -> list[Listing]:
        """List the adjusted means beside the observed ones, and the slopes of the covariates."""
        if not self.is_possible:
            return []
        lines: list[tuple[object, ...]] = []
        for text, side, (mean, low, high) in zip(self.sides.texts, self.sides.keys, self.compute_means(), strict=True):
            cells = [sums for key, sums in self.sums.items() if key[0] == side]
            n, total = sum(cell.n for cell in cells), sum((cell.sums[-1] for cell in cells), Fraction(0))
            observed, adjusted = (to_float(total / n), mean) if n else (np.nan, np.nan)
            lines.append((text, n, format_number(observed), format_number(adjusted), format_interval(low, high)))
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
        groups = len(self.sides.texts) - 1
        before = sum(len(other.labels) for other in self.covariates[: self.covariates.index(covariate)])
        first = self._first_group + groups + before * groups
        products = range(first, first + len(covariate.labels) * groups)
        return compare_fits(self.fit, self._condensed.fit([*range(self._first_group + groups), *products]))


def extend_by_ones(sums: CrossProducts) -> npt.NDArray[Any]:
    """Return the sums of products of the numbers and, last, a column of ones."""
    return np.block([[sums.products, sums.sums[:, None]], [sums.sums[None, :], np.array([[Fraction(sums.n)]])]])


def multiply_sparsely(change: npt.NDArray[Any], matrix: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """Multiply a matrix by one that is mostly 0."""
    result = np.zeros(matrix.shape, object)
    for row, column in zip(*np.nonzero(change), strict=True):
        result[row] = result[row] + change[row, column] * matrix[column]
    return result
