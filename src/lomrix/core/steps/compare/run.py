"""Measures compared one after the other; a row of the result for each test."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lomrix.core.arrays.differences import (
    Difference,
    Line,
    Ratio,
    chi_squared,
    line_through,
    of_pairs,
    of_two_groups,
    one_way,
    one_way_of_welch,
)
from lomrix.core.arrays.statistics import Values
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import ordered_ranks
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.account import Account, Balance, Listing, Parts
from lomrix.core.steps.compare.figure import drawn
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.steps.compare.words import in_words, listed, number, table_of
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

# With smaller expected counts than this in more than a fifth of the cells chi-squared is no good guide.
SMALL_EXPECTED, SMALL_SHARE = 5, 0.2
MOST_CODES = 50


@dataclass
class Found:
    """What was found of one measure.

    Parameters
    ----------
    measure
        Its name.
    rows
        One mapping for each test, as `words.table_of` puts them into the result.
    balance
        What became of its rows, or of its cases.
    listings, notes
        What is shown beside.
    """

    measure: str
    rows: list[dict[str, Any]]
    balance: Balance
    listings: list[Listing] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)


def compared(step: Compare, tables: Inputs, wanted: Collection[str]) -> Result:
    """Compare what was asked for."""
    table = tables.one()
    measures = chosen_columns(step.measure, table.types(), table.name)
    for name in (step.between, step.against, *step.paired_on):
        if name:
            table[name]
        if name in measures:
            raise UsageError(f"{name} cannot be compared by itself.", todo="Leave it out of ‹measure›.")
    sides = Sides(table, step.between, step.paired_on)
    found = [Comparing(step, table, sides, name).found() for name in measures]
    tests = [row for one in found for row in one.rows]
    made = table_of(tests)
    several = counted(len(measures), "measure", "measures")
    account = Account(
        "compare",
        f"{in_words(tests[0])}." if len(tests) == 1 else f"{several}, {len(tests)} comparisons.",
        tuple(one.balance for one in found),
        {"comparisons": [{key: None if value != value else value for key, value in row.items()} for row in tests]},
        (*(listing for one in found for listing in one.listings), *listed(tests)),
        (*sides.order_notes, *(note for one in found for note in one.notes), *unadjusted(tests)),
    )
    extras = {"figure": drawn(step, table, sides, measures)} if "figure" in wanted else {}
    return Result(made, account, extras)


@dataclass
class Comparing:
    """One measure being compared."""

    step: Compare
    table: Table
    sides: Sides
    name: str

    @property
    def is_codes(self) -> bool:
        """True where its values are codes or words, which are counted."""
        column = self.column
        coded = bool(self.table.dictionary.labels_of(self.name)) and not self.step.as_numbers
        return column.type in ("string", "boolean") or coded

    @property
    def column(self) -> Column:
        """The measure."""
        return numeric(self.table[self.name])

    def found(self) -> Found:
        """Compare it in the way that fits."""
        if self.step.against:
            return self._against()
        if self.is_codes:
            if self.step.paired_on:
                raise UsageError(
                    f"{self.name} holds codes, which are not compared in pairs.",
                    todo="Leave ‹paired_on› out to compare their counts, or say ‹as_numbers› for means.",
                )
            return self._codes()
        if self.column.type not in NUMERIC:
            raise UsageError(
                f"{self.name} is {self.column.type}, which is not compared.", todo="Name numbers or codes."
            )
        if self.step.paired_on:
            return self._pairs()
        return self._groups()

    def _title(self) -> str:
        label = self.table.dictionary.of(self.name).label
        return f"{self.name} ({label})" if label else self.name

    # ------------------------------------------------------------------ groups

    def _groups(self) -> Found:
        codes, count = self.sides.groups.codes, self.sides.groups.count
        rows = np.flatnonzero((codes >= 0) & ~self.column.is_missing)
        measured = self.column.values[rows]
        values = Values(codes[rows], measured.astype(np.float64), count)
        # Distances from one of the values are exact where all are far from 0, and all tests go by distances.
        near = measured - measured[0] if len(rows) else measured
        distances = Values(codes[rows], near.astype(np.float64), count)
        n, mean, variance = distances.sizes, distances.mean, distances.variance
        named = {"measure": self.name, "n": int(n.sum())}
        tests: list[dict[str, Any]]
        if count == 2:
            told = of_difference(of_two_groups(n, mean, variance), "Welch's t")
            tests = [
                {**named, "comparison": f"{self.step.between} {self.sides.texts[1]} less {self.sides.texts[0]}", **told}
            ]
        else:
            together = {**named, "comparison": f"{count} groups"}
            tests = [
                {**together, **of_ratio(one_way(n, mean, variance), "analysis of variance")},
                {**together, **of_ratio(one_way_of_welch(n, mean, variance), "Welch's analysis of variance")},
            ]
        return Found(self.name, tests, self._rows(len(rows)), [self._described(values)], self._thin(n))

    def _described(self, values: Values, who: str = "values") -> Listing:
        lines = []
        for at, text in enumerate(self.sides.texts):
            own = (float(one[at]) for one in (values.mean, values.standard_deviation))
            half = float(values.half_interval[at])
            mean, spread = own
            ends = "" if np.isnan(half) else f"{number(mean - half)} to {number(mean + half)}"
            lines.append((text, int(values.sizes[at]), number(mean), number(spread), ends))
        heads = (self.step.between or "group", who, "mean", "sd", "95 % interval")
        return Listing(self._title(), heads, tuple(lines))

    def _thin(self, n: Any) -> list[Note]:
        small = [text for text, own in zip(self.sides.texts, n.tolist(), strict=True) if own < 2]
        if not small:
            return []
        text = f"fewer than two values, so no spread: {some_of(small)}."
        return [Note(text, self.name, (), "too-few", len(small))]

    def _rows(self, used: int) -> Balance:
        """Rows of the table: those compared, and those left out by cause."""
        inside = self.sides.groups.codes >= 0
        parts: list[tuple[str, int]] = [("compared", used)]
        gone = self.column.take(np.flatnonzero(inside)).reason_counts()
        parts += [(f"{self.name} missing ({reason})", count) for reason, count in gone.items()]
        outside = int(np.count_nonzero(~inside))
        parts += [(f"{self.step.between} missing", outside)] if outside else []
        return Balance(f"rows for {self.name}", len(self.table), tuple(parts))

    # ------------------------------------------------------------------- pairs

    def _pairs(self) -> Found:
        rows = self.sides.row_of
        values = np.where(rows >= 0, self.column.values.astype(np.float64)[rows], np.nan)
        values[(rows >= 0) & self.column.is_missing[rows]] = np.nan
        there = ~np.isnan(values)
        tests = []
        for at in range(1, self.sides.groups.count):
            both = there[:, 0] & there[:, at]
            told = of_difference(of_pairs(values[both, at] - values[both, 0]), "paired t")
            words = f"{self.step.between} {self.sides.texts[at]} less {self.sides.texts[0]}"
            tests.append({"measure": self.name, "comparison": words, "n": int(np.count_nonzero(both)), **told})
        side, case = np.tile(np.arange(there.shape[1]), len(there)), there.ravel()
        if there.shape[1] == 2:
            case = (there & there.all(axis=1, keepdims=True)).ravel()
        who = "pairs" if there.shape[1] == 2 else "values"
        described = Values(side[case], values.ravel()[case], there.shape[1])
        return Found(self.name, tests, self._cases(there), [self._described(described, who)], self._dropped(there))

    def _cases(self, there: Any) -> Balance:
        """Cases: those with both values, and those who fell out, by the side where they have none."""
        first, last = self.sides.texts[0], self.sides.texts[-1]
        of_sides, all_of_them = there.sum(axis=1), there.shape[1]
        parts: Parts
        if all_of_them == 2:
            parts = (
                ("with both", int(np.count_nonzero(there.all(axis=1)))),
                (f"only at {first}", int(np.count_nonzero(there[:, 0] & ~there[:, 1]))),
                (f"only at {last}", int(np.count_nonzero(there[:, 1] & ~there[:, 0]))),
                ("with neither", int(np.count_nonzero(~there.any(axis=1)))),
            )
        else:
            parts = (
                ("with all", int(np.count_nonzero(of_sides == all_of_them))),
                ("with some", int(np.count_nonzero((of_sides > 0) & (of_sides < all_of_them)))),
                ("with none", int(np.count_nonzero(of_sides == 0))),
            )
        return Balance(f"cases for {self.name}", len(self.sides.cases), tuple((w, n) for w, n in parts if n))

    def _dropped(self, there: Any) -> list[Note]:
        """Whether those who fell out began differently."""
        if there.shape[1] != 2:
            return []
        left = there[:, 0] & ~there[:, 1]
        stayed = there.all(axis=1)
        if not (left.any() and stayed.any()):
            return []
        values = self.column.values.astype(np.float64)[self.sides.row_of[:, 0]]
        means = number(float(values[stayed].mean())), number(float(values[left].mean()))
        text = (
            f"at {self.sides.texts[0]} the mean is {means[0]} of those who stayed and {means[1]} of the "
            f"{int(left.sum()):,} who {plural(int(left.sum()), 'has', 'have')} no value at {self.sides.texts[1]}."
        )
        return [Note(text, self.name, (), "dropped-out", int(left.sum()))]

    # ------------------------------------------------------------------- codes

    def _codes(self) -> Found:
        ranks, size = ordered_ranks(self.column)
        codes, count = self.sides.groups.codes, self.sides.groups.count
        inside = np.flatnonzero((codes >= 0) & (ranks >= 0))
        whole = np.bincount(ranks[inside] * count + codes[inside], minlength=size * count).reshape(size, count)
        filled = np.flatnonzero(whole.sum(axis=1))
        if len(filled) > MOST_CODES:
            raise UsageError(
                f"{self.name} has {len(filled):,} values, too many to be counted.", todo="Recode it first."
            )
        counts = whole[filled]
        ratio, expected = chi_squared(counts[:, counts.sum(axis=0) > 0])
        row = {
            "measure": self.name,
            "comparison": f"{count} groups",
            "n": int(counts.sum()),
            **of_ratio(ratio, "chi-squared"),
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
        listing = Listing(
            f"{self._title()}: cells (per cent of the group)", (self.name, *self.sides.texts), tuple(lines)
        )
        return Found(self.name, [row], self._rows(len(inside)), [listing], self._small(expected))

    def _small(self, expected: Any) -> list[Note]:
        small = int(np.count_nonzero(expected < SMALL_EXPECTED))
        if small <= SMALL_SHARE * expected.size:
            return []
        text = (
            f"{small} of {expected.size} expected counts are below {SMALL_EXPECTED}: chi-squared is a rough guide only."
        )
        return [Note(text, self.name, (), "small-expected", small)]

    # ----------------------------------------------------------------- against

    def _against(self) -> Found:
        other = numeric(self.table[self.step.against])
        for name, column in ((self.name, self.column), (self.step.against, other)):
            if column.type not in NUMERIC:
                raise UsageError(f"{name} is {column.type}; a slope is of numbers.", todo="Name columns of numbers.")
        codes = self.sides.groups.codes
        there = ~(self.column.is_missing | other.is_missing) & (codes >= 0)
        x, y = other.values.astype(np.float64), self.column.values.astype(np.float64)
        rows, lines = [], []
        parts: list[tuple[str, Any]] = []
        if self.step.between:
            parts = [(text, there & (codes == at)) for at, text in enumerate(self.sides.texts)]
        for text, some in [*parts, ("all", there)]:
            line = line_through(x[some], y[some])
            side = text if some is there else f"{self.step.between} {text}"
            words = f"slope on {self.step.against}" + (f", {side}" if parts else "")
            rows.append({"measure": self.name, "comparison": words, "n": line.n, **of_line(line)})
            ends = "" if np.isnan(line.low) else f"{number(line.low)} to {number(line.high)}"
            lines.append((text, line.n, number(line.slope), ends, number(line.intercept), number(line.r_squared)))
        heads = (self.step.between or "rows", "values", "slope", "95 % interval", f"at {self.step.against} 0", "r²")
        listing = Listing(f"{self._title()} against {self.step.against}", heads, tuple(lines))
        return Found(self.name, rows, self._both(other, there), [listing])

    def _both(self, other: Column, there: Any) -> Balance:
        left = (self.sides.groups.codes >= 0) & ~there
        parts = [("with both values", int(np.count_nonzero(there)))]
        first = left & self.column.is_missing
        parts += [(f"{self.name} missing", int(np.count_nonzero(first)))]
        parts += [(f"{self.step.against} missing", int(np.count_nonzero(left & ~first & other.is_missing)))]
        parts += [(f"{self.step.between} missing", int(np.count_nonzero(self.sides.groups.codes < 0)))]
        return Balance(f"rows for {self.name}", len(self.table), tuple((word, n) for word, n in parts if n))


def numeric(column: Column) -> Column:
    """A column, as numbers where it has no value at all."""
    return column.fitting("number") if column.is_without_values and column.type == "string" else column


def unadjusted(tests: Sequence[Mapping[str, Any]]) -> list[Note]:
    """A reminder where there are several tests."""
    if len(tests) < 2:
        return []
    text = f"the p-values of the {len(tests)} comparisons are not adjusted for their number."
    return [Note(text, kind="unadjusted", count=len(tests), done=True)]


def of_difference(found: Difference, method: str) -> Mapping[str, Any]:
    """A difference as a row of the result."""
    return {
        "method": method, "difference": found.estimate, "low": found.low, "high": found.high,
        "statistic": found.statistic, "df": found.df, "p": found.p,
        "effect": found.effect, "effect_low": found.effect_low, "effect_high": found.effect_high,
    }  # fmt: skip


def of_ratio(found: Ratio, method: str) -> Mapping[str, Any]:
    """A test of several groups as a row of the result."""
    return {
        "method": method, "statistic": found.statistic, "df": found.df, "df_within": found.df_within, "p": found.p,
        "effect": found.effect,
    }  # fmt: skip


def of_line(found: Line) -> Mapping[str, Any]:
    """A slope as a row of the result; its effect is r squared."""
    return {
        "method": "least squares", "difference": found.slope, "low": found.low, "high": found.high,
        "statistic": found.statistic, "df": found.df, "p": found.p, "effect": found.r_squared,
    }  # fmt: skip
