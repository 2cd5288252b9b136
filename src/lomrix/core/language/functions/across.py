"""Functions across the columns of a row."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import HALF, LOWER, Mask, Whole, join_halves
from lomrix.core.language.function import function
from lomrix.core.language.operands import merge_reasons, to_floats
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type
from lomrix.core.table.reasons import TOO_FEW, UNDEFINED

KIND = "across the columns of a row"
Choice = list[Column]
Numbers = npt.NDArray[np.float64]


class Row:
    """The cells of some columns (each of n cells) in each row, without missing ones."""

    def __init__(self, columns: Choice, name: str) -> None:
        self.columns = columns
        numbers = [to_floats(column, f"{name}()") for column in columns]
        self.values = [fill_missing(column, values, 0.0) for column, values in zip(columns, numbers, strict=True)]
        self.n = count_present(columns)

    @property
    def is_integer(self) -> bool:
        """True if all columns hold integers, so that sums and extremes do too."""
        return all(column.type in ("integer", "boolean") for column in self.columns)

    def integer_total(self) -> tuple[Whole, Mask]:
        """Return the sum of the present integer cells, and where it overflows 64 bits."""
        upper, lower = np.zeros(len(self.n), np.int64), np.zeros(len(self.n), np.int64)
        for column in self.columns:
            values = np.where(column.is_missing, 0, column.values).astype(np.int64)
            upper += values >> HALF
            lower += values & LOWER
        return join_halves(upper, lower)

    def integer_extreme(self, pick: np.ufunc, empty: int) -> tuple[Whole, Mask]:
        """Return the minimum or maximum of the present integer cells, and where there is none."""
        result = np.full(len(self.n), empty, np.int64)
        for column in self.columns:
            result = pick(result, np.where(column.is_missing, empty, column.values).astype(np.int64))
        return result, self.n == 0

    @property
    def total(self) -> Numbers:
        """Sum of the present cells."""
        total = np.array(self.values[0])
        for values in self.values[1:]:
            total += values
        return total

    @property
    def mean(self) -> Numbers:
        """Mean of the present cells."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(self.total / self.n)

    @property
    def standard_deviation(self) -> Numbers:
        """Sample standard deviation of the present cells."""
        mean = self.mean
        squares = np.zeros(len(self.n))
        with np.errstate(invalid="ignore", divide="ignore"):
            for column, values in zip(self.columns, self.values, strict=True):
                squares += fill_missing(column, (values - mean) ** 2, 0.0)
            return np.where(self.n > 1, np.sqrt(squares / (self.n - 1)), np.nan)

    def extreme(self, pick: np.ufunc, empty: float) -> Numbers:
        """Return the minimum or maximum of the present cells."""
        result = fill_missing(self.columns[0], self.values[0], empty)
        for column, values in zip(self.columns[1:], self.values[1:], strict=True):
            result = pick(result, fill_missing(column, values, empty))
        return result

    def result(self, values: Numbers | Whole, at_least: int | None, undefined: Mask | None = None) -> Column:
        """Return the values as a column, missing where too few cells are present.

        Without `at_least` all must be. A row that lacks them, or has none, gets the reason of its first missing cell.
        """
        type_: Type = "integer" if values.dtype.kind == "i" else "number"
        why, reasons = merge_reasons(self.columns)
        if at_least is not None and why is not None:
            why = np.where(self.n == 0, why, 0).astype(np.uint8) * np.uint8(at_least > 0)
        column = Column.of(type_, values, why, reasons)
        if at_least is not None:
            column = column.with_missing(self.n < at_least, TOO_FEW)
        return column.with_missing(~np.isfinite(values) if undefined is None else undefined, UNDEFINED)


def count_present(columns: Choice) -> npt.NDArray[np.int64]:
    """Count the present cells of each row."""
    n = np.full(len(columns[0]), len(columns), np.int64)
    for column in columns:
        if column.why is not None:
            n -= column.is_missing
    return n


def fill_missing(column: Column, values: Numbers, filler: float) -> Numbers:
    """Return a column's numbers with the filler where a cell is missing."""
    return values if column.why is None else np.where(column.is_missing, filler, values)


@function(KIND)
def mean_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """mean_of("f1..f6", at_least=5): the mean of columns; all must be present, or at least at_least

    Examples
    --------
    mean_of("f1..f3", at_least=2) of f1 1, 1, —; f2 2, —, —; f3 6, 2, 5 is 3.0, 1.5, —
    """
    row = Row(columns, "mean_of")
    return row.result(row.mean, at_least)


@function(KIND)
def sum_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sum_of("f1..f6", at_least=5): the sum of columns; all must be present, or at least at_least

    Examples
    --------
    sum_of("f1..f3") of f1 1, 1; f2 2, —; f3 6, 2 is 9, —
    """
    row = Row(columns, "sum_of")
    if row.is_integer:
        total, overflow = row.integer_total()
        return row.result(total, at_least, overflow)
    return row.result(row.total, at_least)


@function(KIND)
def min_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """min_of("f1..f6", at_least=1): the minimum of columns

    Examples
    --------
    min_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 1, 2
    """
    row = Row(columns, "min_of")
    if row.is_integer:
        minimum, none = row.integer_extreme(np.minimum, 2**63 - 1)
        return row.result(minimum, at_least, none)
    return row.result(row.extreme(np.minimum, np.inf), at_least)


@function(KIND)
def max_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """max_of("f1..f6", at_least=1): the maximum of columns

    Examples
    --------
    max_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 6, 7
    """
    row = Row(columns, "max_of")
    if row.is_integer:
        maximum, none = row.integer_extreme(np.maximum, -(2**63))
        return row.result(maximum, at_least, none)
    return row.result(row.extreme(np.maximum, -np.inf), at_least)


@function(KIND)
def sd_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sd_of("f1..f6", at_least=2): the standard deviation of columns, for a sample

    Examples
    --------
    sd_of("f1..f3", at_least=2) of f1 1, 1; f2 2, —; f3 3, — is 1.0, —
    """
    row = Row(columns, "sd_of")
    return row.result(row.standard_deviation, at_least)


@function(KIND)
def count_of(columns: Choice) -> Column:
    """count_of("f1..f6"): how many of the columns are present

    Examples
    --------
    count_of("f1..f3") of f1 1, —; f2 2, —; f3 6, 2 is 3, 1
    """
    return Column.of("integer", count_present(columns))


@function(KIND)
def missing_of(columns: Choice) -> Column:
    """missing_of("f1..f6"): how many of the columns are missing

    Examples
    --------
    missing_of("f1..f3") of f1 1, —; f2 2, —; f3 6, 2 is 0, 2
    """
    return Column.of("integer", len(columns) - count_present(columns))
