"""Compare measures one after the other; the result has a row for each test."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

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
from lomrix.core.arrays.statistics import Values
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import rank_cells
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.compare.adjusted import AdjustedComparison, require_numbers
from lomrix.core.steps.compare.figure import make_figure
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.steps.compare.words import format_interval, format_number, format_test, list_tests, make_table
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

# With smaller expected counts than this in more than a fifth of the cells chi-squared is unreliable.
SMALL_EXPECTED, SMALL_SHARE = 5, 0.2
MOST_CODES = 50


@dataclass
class MeasureResult:
    """The comparison of one measure: a mapping per test, the balance of its rows or cases, and what is shown beside."""

    measure: str
    rows: list[dict[str, Any]]
    balance: Balance
    listings: list[Listing] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)


def compare(step: Compare, tables: Inputs, wanted: Collection[str]) -> Result:
    """Compare what was asked for."""
    table = tables.get_one()
    measures = choose_columns(step.measure, table.types(), table.name)
    covariates = choose_columns(step.adjust, table.types(), table.name) if step.adjust else []
    for name in (step.between, step.against, *step.paired_on, *covariates):
        if name:
            table[name]
        if name in measures:
            raise UsageError(f"{name} cannot be compared with itself.", todo="Leave it out of ‹measure›.")
        if name == step.between and name in covariates:
            raise UsageError(f"{name} cannot be adjusted for itself.", todo="Leave it out of ‹adjust›.")
    sides = Sides(table, step.between, step.paired_on)
    results = [MeasureComparison(step, table, sides, name, covariates).compare() for name in measures]
    tests = [row for result in results for row in result.rows]
    table_made = make_table(tests)
    measure_count = pluralize(len(measures), "measure")
    account = Account(
        "compare",
        f"{format_test(tests[0])}." if len(tests) == 1 else f"{measure_count}, {len(tests)} comparisons.",
        tuple(result.balance for result in results),
        {"comparisons": [{key: None if value != value else value for key, value in row.items()} for row in tests]},
        (*(listing for result in results for listing in result.listings), *list_tests(tests)),
        (*sides.order_notes, *(note for result in results for note in result.notes), *note_unadjusted(tests)),
    )
    extras = {"figure": make_figure(step, table, sides, measures, covariates)} if "figure" in wanted else {}
    return Result(table_made, account, extras)


@dataclass
class MeasureComparison:
    """One measure being compared."""

    step: Compare
    table: Table
    sides: Sides
    name: str
    covariates: list[str] = field(default_factory=list)

    @property
    def is_codes(self) -> bool:
        """True if its values are codes or words, which are counted."""
        column = self.column
        coded = bool(self.table.dictionary.labels_of(self.name)) and not self.step.as_numbers
        return column.type in ("string", "boolean") or coded

    @property
    def column(self) -> Column:
        """The measure."""
        return to_numeric(self.table[self.name])

    def compare(self) -> MeasureResult:
        """Compare it in the way that suits its type."""
        if self.step.against:
            return self._compare_slopes()
        if self.covariates:
            return self._compare_adjusted()
        if self.is_codes:
            if self.step.paired_on:
                raise UsageError(
                    f"{self.name} holds codes, which cannot be compared in pairs.",
                    todo="Leave ‹paired_on› out to compare their counts, or use ‹as_numbers› for means.",
                )
            return self._compare_codes()
        if self.column.type not in NUMERIC:
            raise UsageError(
                f"{self.name} is {self.column.type}, which cannot be compared.",
                todo="Name numbers or codes.",
                columns=[self.name],
            )
        if self.step.paired_on:
            return self._compare_pairs()
        return self._compare_groups()

    def _make_title(self) -> str:
        label = self.table.dictionary.of(self.name).label
        return f"{self.name} ({label})" if label else self.name

    def _compare_adjusted(self) -> MeasureResult:
        require_numbers(self.column, self.name, has_codes=self.is_codes)
        adjusted = AdjustedComparison(
            self.table, self.sides, self.name, self.column, self.covariates, self._make_title()
        )
        return MeasureResult(
            self.name, adjusted.list_tests(), adjusted.make_balance(), adjusted.make_listings(), adjusted.make_notes()
        )

    # ------------------------------------------------------------------ groups

    def _compare_groups(self) -> MeasureResult:
        codes, count = self.sides.groups.codes, self.sides.groups.count
        rows = np.flatnonzero((codes >= 0) & ~self.column.is_missing)
        measured = self.column.values[rows]
        values = Values(codes[rows], measured.astype(np.float64), count)
        # Differences from one of the values are exact if all are far from 0, and all tests use differences.
        shifted = measured - measured[0] if len(rows) else measured
        distances = Values(codes[rows], shifted.astype(np.float64), count)
        n, mean, variance = distances.sizes, distances.mean, distances.variance
        base = {"measure": self.name, "n": int(n.sum())}
        tests: list[dict[str, Any]]
        if count == 2:
            test = difference_to_row(compare_two_means(n, mean, variance), "Welch's t")
            tests = [
                {**base, "comparison": f"{self.step.between} {self.sides.texts[1]} less {self.sides.texts[0]}", **test}
            ]
        else:
            base_of_groups = {**base, "comparison": f"{count} groups"}
            tests = [
                {**base_of_groups, **ratio_to_row(anova(n, mean, variance), "analysis of variance")},
                {**base_of_groups, **ratio_to_row(welch_anova(n, mean, variance), "Welch's analysis of variance")},
            ]
        return MeasureResult(
            self.name, tests, self._balance_rows(len(rows)), [self._list_sides(values)], self._note_thin(n)
        )

    def _list_sides(self, values: Values, unit: str = "values") -> Listing:
        lines = []
        for side, text in enumerate(self.sides.texts):
            numbers = (float(statistic[side]) for statistic in (values.mean, values.standard_deviation))
            half = float(values.half_interval[side])
            mean, spread = numbers
            interval = format_interval(mean - half, mean + half)
            lines.append((text, int(values.sizes[side]), format_number(mean), format_number(spread), interval))
        heads = (self.step.between or "group", unit, "mean", "sd", "95 % interval")
        return Listing(self._make_title(), heads, tuple(lines))

    def _note_thin(self, n: Any) -> list[Note]:
        small = [text for text, count in zip(self.sides.texts, n.tolist(), strict=True) if count < 2]
        if not small:
            return []
        text = f"fewer than two values, so no spread: {shorten_list(small)}."
        return [Note(text, self.name, (), "too-few", len(small))]

    def _balance_rows(self, used: int) -> Balance:
        """Balance the rows of the table: compared, and left out by cause."""
        is_inside = self.sides.groups.codes >= 0
        parts = [Part("kept", used, "compared")]
        missing = self.column.take(np.flatnonzero(is_inside)).reason_counts()
        parts += [Part("missing", count, "value", self.name, reason) for reason, count in missing.items()]
        outside = int(np.count_nonzero(~is_inside))
        parts.append(Part("missing", outside, "value", self.step.between))
        return Balance("rows for", len(self.table), tuple(parts), self.name)

    # ------------------------------------------------------------------- pairs

    def _compare_pairs(self) -> MeasureResult:
        rows = self.sides.row_of
        values = np.where(rows >= 0, self.column.values.astype(np.float64)[rows], np.nan)
        values[(rows >= 0) & self.column.is_missing[rows]] = np.nan
        present = ~np.isnan(values)
        tests = []
        for other_side in range(1, self.sides.groups.count):
            both = present[:, 0] & present[:, other_side]
            test = difference_to_row(compare_pairs(values[both, other_side] - values[both, 0]), "paired t")
            comparison = f"{self.step.between} {self.sides.texts[other_side]} less {self.sides.texts[0]}"
            tests.append({"measure": self.name, "comparison": comparison, "n": int(np.count_nonzero(both)), **test})
        side, case = np.tile(np.arange(present.shape[1]), len(present)), present.ravel()
        if present.shape[1] == 2:
            case = (present & present.all(axis=1, keepdims=True)).ravel()
        unit = "pairs" if present.shape[1] == 2 else "values"
        values_by_side = Values(side[case], values.ravel()[case], present.shape[1])
        return MeasureResult(
            self.name,
            tests,
            self._balance_cases(present),
            [self._list_sides(values_by_side, unit)],
            self._note_dropouts(present),
        )

    def _balance_cases(self, present: Any) -> Balance:
        """Balance the cases: with both values, and those without one, by side."""
        first, last = self.sides.texts[0], self.sides.texts[-1]
        counts, side_count = present.sum(axis=1), present.shape[1]
        parts: tuple[Part, ...]
        if side_count == 2:
            parts = (
                Part("kept", int(np.count_nonzero(present.all(axis=1))), "both"),
                Part("missing", int(np.count_nonzero(present[:, 0] & ~present[:, 1])), "only-at", first),
                Part("missing", int(np.count_nonzero(present[:, 1] & ~present[:, 0])), "only-at", last),
                Part("missing", int(np.count_nonzero(~present.any(axis=1))), "neither"),
            )
        else:
            parts = (
                Part("kept", int(np.count_nonzero(counts == side_count)), "all"),
                Part("missing", int(np.count_nonzero((counts > 0) & (counts < side_count))), "some"),
                Part("missing", int(np.count_nonzero(counts == 0)), "none"),
            )
        return Balance("cases for", len(self.sides.cases), parts, self.name)

    def _note_dropouts(self, present: Any) -> list[Note]:
        """Note whether dropouts differed at the beginning."""
        if present.shape[1] != 2:
            return []
        dropped_out = present[:, 0] & ~present[:, 1]
        stayed = present.all(axis=1)
        if not (dropped_out.any() and stayed.any()):
            return []
        values = self.column.values.astype(np.float64)[self.sides.row_of[:, 0]]
        means = format_number(float(values[stayed].mean())), format_number(float(values[dropped_out].mean()))
        text = (
            f"at {self.sides.texts[0]} the mean is {means[0]} among those who stayed and {means[1]} among "
            f"{pluralize(int(dropped_out.sum()), 'dropout')} without a value at {self.sides.texts[1]}."
        )
        return [Note(text, self.name, (), "dropped-out", int(dropped_out.sum()))]

    # ------------------------------------------------------------------- codes

    def _compare_codes(self) -> MeasureResult:
        ranks, size = rank_cells(self.column)
        codes, count = self.sides.groups.codes, self.sides.groups.count
        inside = np.flatnonzero((codes >= 0) & (ranks >= 0))
        table_of_counts = np.bincount(ranks[inside] * count + codes[inside], minlength=size * count).reshape(
            size, count
        )
        filled = np.flatnonzero(table_of_counts.sum(axis=1))
        if len(filled) > MOST_CODES:
            raise UsageError(
                f"{self.name} has {len(filled):,} values, too many to be counted.", todo="Recode it first."
            )
        counts = table_of_counts[filled]
        test, expected = chi_squared_test(counts[:, counts.sum(axis=0) > 0])
        row = {
            "measure": self.name,
            "comparison": f"{count} groups",
            "n": int(counts.sum()),
            **ratio_to_row(test, "chi-squared"),
        }
        first = np.full(size, 0, np.int64)
        first[ranks[inside][::-1]] = inside[::-1]
        texts = self.column.take(first[filled]).to_text().to_pylist()
        labels = CodeList(self.table.dictionary.labels_of(self.name))
        shares = 100 * counts / np.maximum(counts.sum(axis=0), 1)
        lines = [
            (" ".join(filter(None, (text, labels.label_of(text)))),
             *(f"{n:,} ({share:.1f})" for n, share in zip(*pair, strict=True)))
            for text, pair in zip(texts, zip(counts.tolist(), shares.tolist(), strict=True), strict=True)
        ]  # fmt: skip
        listing = Listing(f"{self._make_title()}: cells (% of the group)", (self.name, *self.sides.texts), tuple(lines))
        return MeasureResult(
            self.name, [row], self._balance_rows(len(inside)), [listing], self._note_small_counts(expected)
        )

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
        other = to_numeric(self.table[self.step.against])
        for name, column in ((self.name, self.column), (self.step.against, other)):
            if column.type not in NUMERIC:
                raise UsageError(
                    f"{name} is {column.type}; a slope is of numbers.", todo="Name columns of numbers.", columns=[name]
                )
        codes = self.sides.groups.codes
        present = ~(self.column.is_missing | other.is_missing) & (codes >= 0)
        x, y = other.values.astype(np.float64), self.column.values.astype(np.float64)
        rows, lines = [], []
        parts: list[tuple[str, Any]] = []
        if self.step.between:
            parts = [(text, present & (codes == index)) for index, text in enumerate(self.sides.texts)]
        for text, mask in [*parts, ("all", present)]:
            line = fit_line(x[mask], y[mask])
            side = text if mask is present else f"{self.step.between} {text}"
            comparison = f"slope on {self.step.against}" + (f", {side}" if parts else "")
            rows.append({"measure": self.name, "comparison": comparison, "n": line.n, **line_to_row(line)})
            interval = format_interval(line.low, line.high)
            lines.append(
                (
                    text,
                    line.n,
                    format_number(line.slope),
                    interval,
                    format_number(line.intercept),
                    format_number(line.r_squared),
                )
            )
        heads = (self.step.between or "rows", "values", "slope", "95 % interval", f"at {self.step.against} 0", "r²")
        listing = Listing(f"{self._make_title()} against {self.step.against}", heads, tuple(lines))
        return MeasureResult(self.name, rows, self._balance_pairs(other, present), [listing])

    def _balance_pairs(self, other: Column, present: Any) -> Balance:
        remaining = (self.sides.groups.codes >= 0) & ~present
        parts = [Part("kept", int(np.count_nonzero(present)), "both-values")]
        first = remaining & self.column.is_missing
        for name, is_lost in (
            (self.name, first),
            (self.step.against, remaining & ~first & other.is_missing),
            (self.step.between, self.sides.groups.codes < 0),
        ):
            parts.append(Part("missing", int(np.count_nonzero(is_lost)), "value", name))
        return Balance("rows for", len(self.table), tuple(parts), self.name)


def to_numeric(column: Column) -> Column:
    """Return a column as numbers if it has no value at all."""
    return column.fit_type("number") if column.is_without_values and column.type == "string" else column


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
