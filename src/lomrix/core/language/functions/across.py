"""Functions across the columns of a row."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import HALF, LOWER, Mask, Whole, joined_halves
from lomrix.core.language.function import function
from lomrix.core.language.operands import as_float, first_reason
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import TOO_FEW, UNDEFINED
from lomrix.core.table.types import Type

KIND = "across the columns of a row"
Choice = list[Column]
Numbers = npt.NDArray[np.float64]


class Row:
    """The cells of some columns in each row, those that are missing left out.

    Parameters
    ----------
    columns
        k columns of n cells.
    name
        The function that asks.
    """

    def __init__(self, columns: Choice, name: str) -> None:
        self.columns = columns
        numbers = [as_float(column, f"{name}()") for column in columns]
        self.values = [filled(column, values, 0.0) for column, values in zip(columns, numbers, strict=True)]
        self.n = present(columns)

    @property
    def is_whole(self) -> bool:
        """True where all columns hold whole numbers, so that what is picked or added is one."""
        return all(column.type in ("integer", "boolean") for column in self.columns)

    def whole_total(self) -> tuple[Whole, Mask]:
        """Sum of the cells of whole numbers that are present, and where it is beyond 64 bits."""
        upper, lower = np.zeros(len(self.n), np.int64), np.zeros(len(self.n), np.int64)
        for column in self.columns:
            values = np.where(column.is_missing, 0, column.values).astype(np.int64)
            upper += values >> HALF
            lower += values & LOWER
        return joined_halves(upper, lower)

    def whole_extreme(self, pick: np.ufunc, empty: int) -> tuple[Whole, Mask]:
        """Smallest or largest cell of whole numbers that is present, and where there is none."""
        found = np.full(len(self.n), empty, np.int64)
        for column in self.columns:
            found = pick(found, np.where(column.is_missing, empty, column.values).astype(np.int64))
        return found, self.n == 0

    @property
    def total(self) -> Numbers:
        """Sum of the cells that are present."""
        total = np.array(self.values[0])
        for values in self.values[1:]:
            total += values
        return total

    @property
    def mean(self) -> Numbers:
        """Mean of the cells that are present."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(self.total / self.n)

    @property
    def standard_deviation(self) -> Numbers:
        """Standard deviation of the cells that are present, with n - 1 below."""
        mean = self.mean
        squares = np.zeros(len(self.n))
        with np.errstate(invalid="ignore", divide="ignore"):
            for column, values in zip(self.columns, self.values, strict=True):
                squares += filled(column, (values - mean) ** 2, 0.0)
            return np.where(self.n > 1, np.sqrt(squares / (self.n - 1)), np.nan)

    def extreme(self, pick: np.ufunc, empty: float) -> Numbers:
        """Smallest or largest cell that is present."""
        found = filled(self.columns[0], self.values[0], empty)
        for column, values in zip(self.columns[1:], self.values[1:], strict=True):
            found = pick(found, filled(column, values, empty))
        return found

    def result(self, values: Numbers | Whole, at_least: int | None, undefined: Mask | None = None) -> Column:
        """The values as a column, missing where too few cells are present.

        Without `at_least` all must be. Then, and where none is present, a row misses its value for the reason of its
        first missing cell.
        """
        type_: Type = "integer" if values.dtype.kind == "i" else "number"
        why, reasons = first_reason(self.columns)
        if at_least is not None and why is not None:
            why = np.where(self.n == 0, why, 0).astype(np.uint8) * np.uint8(at_least > 0)
        column = Column.of(type_, values, why, reasons)
        if at_least is not None:
            column = column.with_missing(self.n < at_least, TOO_FEW)
        return column.with_missing(~np.isfinite(values) if undefined is None else undefined, UNDEFINED)


def present(columns: Choice) -> npt.NDArray[np.int64]:
    """How many of some columns are present in each row."""
    n = np.full(len(columns[0]), len(columns), np.int64)
    for column in columns:
        if column.why is not None:
            n -= column.is_missing
    return n


def filled(column: Column, values: Numbers, filler: float) -> Numbers:
    """Numbers that belong to the cells of a column, with another one where a cell is missing."""
    return values if column.why is None else np.where(column.is_missing, filler, values)


@function(KIND)
def mean_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """mean_of("f1..f6", at_least=5): the mean of columns; all must be present, or so many as are said

    Examples
    --------
    mean_of("f1..f3", at_least=2) of f1 1, 1, —; f2 2, —, —; f3 6, 2, 5 is 3.0, 1.5, —
    """
    row = Row(columns, "mean_of")
    return row.result(row.mean, at_least)


@function(KIND)
def sum_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sum_of("f1..f6", at_least=5): the sum of columns; all must be present, or so many as are said

    Examples
    --------
    sum_of("f1..f3") of f1 1, 1; f2 2, —; f3 6, 2 is 9, —
    """
    row = Row(columns, "sum_of")
    if row.is_whole:
        total, beyond = row.whole_total()
        return row.result(total, at_least, beyond)
    return row.result(row.total, at_least)


@function(KIND)
def min_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """min_of("f1..f6", at_least=1): the smallest of columns

    Examples
    --------
    min_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 1, 2
    """
    row = Row(columns, "min_of")
    if row.is_whole:
        smallest, none = row.whole_extreme(np.minimum, 2**63 - 1)
        return row.result(smallest, at_least, none)
    return row.result(row.extreme(np.minimum, np.inf), at_least)


@function(KIND)
def max_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """max_of("f1..f6", at_least=1): the largest of columns

    Examples
    --------
    max_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 6, 7
    """
    row = Row(columns, "max_of")
    if row.is_whole:
        largest, none = row.whole_extreme(np.maximum, -(2**63))
        return row.result(largest, at_least, none)
    return row.result(row.extreme(np.maximum, -np.inf), at_least)


@function(KIND)
def sd_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sd_of("f1..f6", at_least=2): the standard deviation of columns, with n - 1 below

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
    return Column.of("integer", present(columns))


@function(KIND)
def missing_of(columns: Choice) -> Column:
    """missing_of("f1..f6"): how many of the columns are missing

    Examples
    --------
    missing_of("f1..f3") of f1 1, —; f2 2, —; f3 6, 2 is 0, 2
    """
    return Column.of("integer", len(columns) - present(columns))
