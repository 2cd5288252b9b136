"""Compare measures one after the other; the result has a row for each test."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts, to_float
from lomrix.core.arrays.differences import (
    Difference,
    Ratio,
    RegressionLine,
    anova,
    chi_squared_test,
    compare_pairs,
    compare_two_means,
    fit_line,
    welch_anova,
)
from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.statistics import compute_half_interval
from lomrix.core.combining import combine_all
from lomrix.core.errors import UsageError
from lomrix.core.rows.course import Average
from lomrix.core.rows.keys import find_group_starts, rank_cells
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.compare.adjusted import AdjustedComparison
from lomrix.core.steps.compare.figure import make_figure
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.steps.compare.survey import MOST_CODES, Choice, MeasureSurvey, Survey, survey
from lomrix.core.steps.compare.words import format_interval, format_number, format_test, list_tests, make_table
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.codes import CodeList
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.wording import shorten_list

# With smaller expected counts than this in more than a fifth of the cells chi-squared is unreliable.
SMALL_EXPECTED, SMALL_SHARE = 5, 0.2
Numbers = npt.NDArray[np.float64]
NO_VALUES = CrossProducts.of([np.zeros(0)])


@dataclass
class MeasureResult:
    """The comparison of one measure: a mapping per test, the balance of its rows or cases, and what is shown beside."""

    measure: str
    rows: list[dict[str, Any]]
    balance: Balance
    listings: list[Listing] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)


def compare(step: Compare, tables: Inputs, wanted: Collection[str], known: Survey | None = None) -> Result:
    """Compare what was asked for."""
    table = tables.get_one()
    known = survey(step, tables) if known is None else known
    choice = Choice.of(step, table.first(0))
    type_ = table[step.between].type if step.between else "string"
    sides = Sides.of(step.between, type_, known.first_rows, table.dictionary, paired=bool(step.paired_on))
    comparisons = [MeasureComparison(choice, known, sides, name) for name in choice.measures]
    results = [comparison.compare() for comparison in comparisons]
    tests = [row for result in results for row in result.rows]
    codes = (note for name, found in known.evidence.items() for note in found.make_notes(name, table.dictionary))
    account = Account(
        "compare",
        f"{format_test(tests[0])}." if len(tests) == 1 else
        f"{pluralize(len(results), 'measure')}, {len(tests)} comparisons.",
        tuple(result.balance for result in results),
        {"comparisons": [{key: None if value != value else value for key, value in row.items()} for row in tests]},
        (*(listing for result in results for listing in result.listings), *list_tests(tests)),
        (*sides.notes, *codes, *(note for result in results for note in result.notes), *note_unadjusted(tests)),
    )  # fmt: skip
    extras = {}
    if "figure" in wanted:
        averages = {one.name: one.average for one in comparisons if one.is_drawn}
        extras["figure"] = make_figure(Choice.of(step, table), sides, averages)
    return Result(make_table(tests), account, extras)


@dataclass(frozen=True)
class Means:
    """Sizes, means and variances of several samples, each of shape (k,)."""

    samples: Sequence[CrossProducts]  # the last number counts

    @property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of values."""
        return np.array([sample.n for sample in self.samples], np.int64)

    @property
    def means(self) -> Numbers:
        """Arithmetic means; NaN without values."""
        return np.array([sample.means[-1] for sample in self.samples])

    @property
    def distances(self) -> Numbers:
        """Means less the first of them, which keep their digits where all values are far from 0."""
        exact = [sample.sums[-1] / sample.n if sample.n else None for sample in self.samples]
        first = next((mean for mean in exact if mean is not None), Fraction(0))
        return np.array([np.nan if mean is None else to_float(mean - first) for mean in exact])

    @property
    def variances(self) -> Numbers:
        """Sample variances; NaN with fewer than two values."""
        return np.array([sample.covariance[-1, -1] for sample in self.samples])

    @property
    def half_intervals(self) -> Numbers:
        """Half the widths of the means' 95 % intervals."""
        return compute_half_interval(self.sizes, np.sqrt(self.variances / np.maximum(self.sizes, 1)))


@dataclass
class MeasureComparison:
    """One measure being compared."""

    choice: Choice
    known: Survey
    sides: Sides
    name: str

    @property
    def step(self) -> Compare:
        """The step."""
        return self.choice.step

    @property
    def survey(self) -> MeasureSurvey:
        """What is known of the measure."""
        return self.known.measures[self.name]

    def _is_blank(self, name: str) -> bool:
        """Return whether a column has no value at all, so that it fits any type."""
        return self.choice.table[name].type == "string" and not self.known.present[name]

    def _has_no_numbers(self, name: str) -> bool:
        """Return whether a column cannot be compared as numbers."""
        return self.choice.table[name].type not in NUMERIC and not self._is_blank(name)

    def compare(self) -> MeasureResult:
        """Compare it in the way that suits its type."""
        kind = self.choice.find_kind(self.name)
        if kind == "slopes":
            return self._compare_slopes()
        is_blank = self._is_blank(self.name)
        has_codes = self.choice.is_coded(self.name) if is_blank else self.choice.has_codes(self.name)
        if kind == "adjusted":
            self._require_numbers(has_codes=has_codes)
            return self._compare_adjusted()
        if has_codes and kind == "pairs":
            raise UsageError(
                f"{self.name} holds codes, which cannot be compared in pairs.",
                todo="Leave ‹paired_on› out to compare their counts, or use ‹as_numbers› for means.",
            )
        if has_codes:
            return self._compare_codes()
        if self._has_no_numbers(self.name):
            raise UsageError(
                f"{self.name} is {self.choice.table[self.name].type}, which cannot be compared.",
                todo="Name numbers or codes.",
                columns=[self.name],
            )
        return self._compare_pairs() if kind == "pairs" else self._compare_groups()

    @property
    def is_drawn(self) -> bool:
        """True if it has means."""
        return self.choice.table[self.name].type in NUMERIC and not self.choice.is_coded(self.name)

    @cached_property
    def _means(self) -> Means:
        """What is known of each side; of two sides in pairs, from the cases that have both."""
        keys = self.sides.keys
        if self.step.paired_on and len(keys) == 2:
            pair = self._pair(*keys)
            return Means([choose_item(pair, index) for index in range(2)])
        nothing = CrossProducts.of([np.zeros(0)] * (len(self.choice.others) + 1))
        return Means([
            combine_all([nothing, *(sums for key, sums in self.survey.sums.items() if key[:1] == (side,) and
                                    (len(key) == 1 or not self.step.paired_on))]) for side in keys
        ])  # fmt: skip

    @property
    def average(self) -> Average:
        """The means to be drawn, adjusted if there are covariates."""
        means, half = self._means.means, self._means.half_intervals
        low, high = means - half, means + half
        if self.choice.covariates and self.adjusted.is_possible:
            means, low, high = np.array(self.adjusted.compute_means()).T
        return Average("", np.arange(len(means)), self._means.sizes, means, low, high)

    def _make_title(self) -> str:
        label = self.choice.table.dictionary.of(self.name).label
        return f"{self.name} ({label})" if label else self.name

    def _get_sums(self, *key: Any) -> CrossProducts:
        return self.survey.sums.get(key, NO_VALUES)

    def _balance_rows(self, used: int, cause: str = "compared") -> Balance:
        """Balance the rows of the table: compared, and left out by the first column that is missing."""
        needed, left_out = self.choice.list_needed(self.name), self.survey.left_out
        found = sorted(left_out, key=lambda found: (needed.index(found[0]), found[1]))
        parts = [Part("missing", left_out[name, reason], "value", name, reason) for name, reason in found]
        return Balance("rows for", self.known.rows, (Part("kept", used, cause), *parts), self.name)

    # ---------------------------------------------------------------- adjusted

    @cached_property
    def adjusted(self) -> AdjustedComparison:
        """The comparison at equal values of the covariates."""
        return AdjustedComparison(self.choice, self.sides, self.name, self.survey.sums, self._make_title())

    def _require_numbers(self, *, has_codes: bool) -> None:
        if has_codes or self._has_no_numbers(self.name):
            raise UsageError(
                f"{self.name} holds codes, whose counts cannot be adjusted." if has_codes else
                f"{self.name} is {self.choice.table[self.name].type}, which cannot be adjusted.",
                todo="Name measures of numbers" + (", or use ‹as_numbers› for means." if has_codes else "."),
                columns=[self.name],
            )  # fmt: skip

    def _compare_adjusted(self) -> MeasureResult:
        adjusted = self.adjusted
        return MeasureResult(
            self.name, adjusted.list_tests(), self._balance_rows(adjusted.count), adjusted.make_listings(),
            adjusted.make_notes(),
        )  # fmt: skip

    # ------------------------------------------------------------------ groups

    def _compare_groups(self) -> MeasureResult:
        groups = self._means
        n, mean, variance, count = groups.sizes, groups.distances, groups.variances, len(self.sides.texts)
        base = {"measure": self.name, "n": int(n.sum())}
        tests: list[dict[str, Any]]
        if count == 2:
            test = difference_to_row(compare_two_means(n, mean, variance), "Welch's t")
            tests = [{**base, "comparison": self._name_difference(1, 0), **test}]
        else:
            base_of_groups = {**base, "comparison": f"{count} groups"}
            tests = [
                {**base_of_groups, **ratio_to_row(anova(groups.samples), "analysis of variance")},
                {**base_of_groups, **ratio_to_row(welch_anova(n, mean, variance), "Welch's analysis of variance")},
            ]
        balance = self._balance_rows(int(n.sum()))
        return MeasureResult(self.name, tests, balance, [self._list_sides(groups)], self._note_thin(n))

    def _name_difference(self, side: int, other: int) -> str:
        return f"{self.step.between} {self.sides.texts[side]} less {self.sides.texts[other]}"

    def _list_sides(self, means: Means, unit: str = "values") -> Listing:
        lines = [
            (text, n, format_number(mean), format_number(spread), format_interval(mean - half, mean + half))
            for text, n, mean, spread, half in zip(
                self.sides.texts, means.sizes.tolist(), means.means.tolist(), np.sqrt(means.variances).tolist(),
                means.half_intervals.tolist(), strict=True,
            )
        ]  # fmt: skip
        heads = (self.step.between or "group", unit, "mean", "sd", "95 % interval")
        return Listing(self._make_title(), heads, tuple(lines))

    def _note_thin(self, n: Any) -> list[Note]:
        small = [text for text, count in zip(self.sides.texts, n.tolist(), strict=True) if count < 2]
        if not small:
            return []
        text = f"fewer than two values, so no spread: {shorten_list(small)}."
        return [Note(text, self.name, (), "too-few", len(small))]

    # ------------------------------------------------------------------- pairs

    def _compare_pairs(self) -> MeasureResult:
        first, *others = self.sides.keys
        tests, pairs = [], {other: self._pair(first, other) for other in others}
        for index, pair in enumerate(pairs.values(), start=1):
            test = compare_pairs(pair.n, pair.means[-1], pair.covariance[-1, -1])
            comparison = self._name_difference(index, 0)
            tests.append({"measure": self.name, "comparison": comparison, "n": pair.n,
                          **difference_to_row(test, "paired t")})  # fmt: skip
        listing = self._list_sides(self._means, "pairs" if len(others) == 1 else "values")
        notes = self._note_dropouts(pairs[others[0]]) if len(others) == 1 else []
        return MeasureResult(self.name, tests, self._balance_cases(pairs[others[0]].n), [listing], notes)

    def _pair(self, first: Any, second: Any) -> CrossProducts:
        """Return the sums of the values at two sides, and of the second less the first, in cases that have both."""
        if (first, second) in self.survey.sums:
            return self._get_sums(first, second)
        found = self.survey.sums.get((second, first), CrossProducts.of([np.zeros(0)] * 3))
        order, signs = [1, 0, 2], np.array([1, 1, -1])
        return CrossProducts(
            found.n, found.sums[order] * signs, found.products[np.ix_(order, order)] * np.outer(signs, signs)
        )

    def _balance_cases(self, both: int) -> Balance:
        """Balance the cases: with both values, and those without one, by side."""
        counts, side_count = self.survey.cases, len(self.sides.texts)
        total, none = sum(counts.values()), counts.get(0, 0)
        parts: tuple[Part, ...]
        if side_count == 2:
            only = [self._get_sums(side).n - both for side in self.sides.keys]
            parts = (
                Part("kept", both, "both"),
                *(Part("missing", n, "only-at", text) for n, text in zip(only, self.sides.texts, strict=True)),
                Part("missing", none, "neither"),
            )
        else:
            complete = counts.get(side_count, 0)
            parts = (
                Part("kept", complete, "all"),
                Part("missing", total - complete - none, "some"),
                Part("missing", none, "none"),
            )
        return Balance("cases for", total, parts, self.name)

    def _note_dropouts(self, pair: CrossProducts) -> list[Note]:
        """Note whether dropouts differed at the beginning."""
        stayed = choose_item(pair, 0)
        seen = self._get_sums(self.sides.keys[0])
        dropouts = seen.n - stayed.n
        if not (dropouts and stayed.n):
            return []
        left = to_float((seen.sums[0] - stayed.sums[0]) / dropouts)
        means = format_number(float(stayed.means[0])), format_number(left)
        text = (
            f"at {self.sides.texts[0]} the mean is {means[0]} among those who stayed and {means[1]} among "
            f"{pluralize(dropouts, 'dropout')} without a value at {self.sides.texts[1]}."
        )
        return [Note(text, self.name, (), "dropped-out", dropouts)]

    # ------------------------------------------------------------------- codes

    def _compare_codes(self) -> MeasureResult:
        counted = self.survey.codes
        assert counted is not None
        column = counted.table[self.name].compact()
        ranks, size = rank_cells(column)
        if size > MOST_CODES:
            raise UsageError(
                f"{self.name} has more than {MOST_CODES} values, too many to be counted.", todo="Recode it first."
            )
        side_count = len(self.sides.texts)
        cells = ranks * side_count + self.sides.encode(counted.table)
        counts = sum_counts(cells, size * side_count, counted.counts).reshape(size, side_count)
        test, expected = chi_squared_test(counts[:, counts.sum(axis=0) > 0])
        row = {"measure": self.name, "comparison": f"{side_count} groups", "n": int(counts.sum()),
               **ratio_to_row(test, "chi-squared")}  # fmt: skip
        texts = column.take(find_group_starts(ranks, size)).to_text().to_pylist()
        labels = CodeList(self.choice.table.dictionary.labels_of(self.name))
        shares = 100 * counts / np.maximum(counts.sum(axis=0), 1)
        lines = [
            (" ".join(filter(None, (text, labels.label_of(text)))),
             *(f"{n:,} ({share:.1f})" for n, share in zip(*pair, strict=True)))
            for text, pair in zip(texts, zip(counts.tolist(), shares.tolist(), strict=True), strict=True)
        ]  # fmt: skip
        listing = Listing(f"{self._make_title()}: cells (% of the group)", (self.name, *self.sides.texts), tuple(lines))
        balance = self._balance_rows(counted.total)
        return MeasureResult(self.name, [row], balance, [listing], self._note_small_counts(expected))

    def _note_small_counts(self, expected: Any) -> list[Note]:
        small = int(np.count_nonzero(expected < SMALL_EXPECTED))
        if small <= SMALL_SHARE * expected.size:
            return []
        text = (
            f"{small} of {expected.size} expected counts are below {SMALL_EXPECTED}: chi-squared is a rough guide only."
        )
        return [Note(text, self.name, (), "small-expected", small)]

    # ----------------------------------------------------------------- against

    def _compare_slopes(self) -> MeasureResult:
        against, between = self.step.against, self.step.between
        for name in (self.name, against):
            if self._has_no_numbers(name):
                raise UsageError(
                    f"{name} is {self.choice.table[name].type}; a slope is of numbers.",
                    todo="Name columns of numbers.", columns=[name],
                )  # fmt: skip
        no_points = CrossProducts.of([np.zeros(0)] * 2)
        points = {f"{between} {text}": (text, self.survey.sums.get((side,), no_points))
                  for text, side in zip(self.sides.texts, self.sides.keys, strict=True) if between}  # fmt: skip
        points["all"] = ("all", combine_all([no_points, *self.survey.sums.values()]))
        rows, lines = [], []
        for side, (text, sums) in points.items():
            line = fit_line(sums)
            comparison = f"slope on {against}" + (f", {side}" if between else "")
            rows.append({"measure": self.name, "comparison": comparison, "n": line.n, **line_to_row(line)})
            lines.append((
                text, line.n, format_number(line.slope), format_interval(line.low, line.high),
                format_number(line.intercept), format_number(line.r_squared),
            ))  # fmt: skip
        heads = (between or "rows", "values", "slope", "95 % interval", f"at {against} 0", "r²")
        listing = Listing(f"{self._make_title()} against {against}", heads, tuple(lines))
        return MeasureResult(self.name, rows, self._balance_rows(points["all"][1].n, "both-values"), [listing])


def choose_item(sums: CrossProducts, index: int) -> CrossProducts:
    """Return the sums of one of several numbers."""
    return CrossProducts(sums.n, sums.sums[[index]], sums.products[[index]][:, [index]])


def note_unadjusted(tests: Sequence[Mapping[str, Any]]) -> list[Note]:
    """Note that the p-values of several tests are not adjusted."""
    if len(tests) < 2:
        return []
    text = f"the p-values of the {len(tests)} comparisons are not adjusted for their number."
    return [Note(text, kind="unadjusted", count=len(tests), done=True)]


def difference_to_row(difference: Difference, method: str) -> Mapping[str, Any]:
    """Return a difference as a row of the result."""
    return {
        "method": method, "difference": difference.estimate, "low": difference.low, "high": difference.high,
        "statistic": difference.statistic, "df": difference.df, "p": difference.p,
        "effect": difference.effect, "effect_low": difference.effect_low, "effect_high": difference.effect_high,
    }  # fmt: skip


def ratio_to_row(ratio: Ratio, method: str) -> Mapping[str, Any]:
    """Return a test of several groups as a row of the result."""
    return {
        "method": method, "statistic": ratio.statistic, "df": ratio.df, "df_within": ratio.df_within, "p": ratio.p,
        "effect": ratio.effect,
    }  # fmt: skip


def line_to_row(line: RegressionLine) -> Mapping[str, Any]:
    """Return a slope as a row of the result; its effect is r squared."""
    return {
        "method": "least squares", "difference": line.slope, "low": line.low, "high": line.high,
        "statistic": line.statistic, "df": line.df, "p": line.p, "effect": line.r_squared,
    }  # fmt: skip
