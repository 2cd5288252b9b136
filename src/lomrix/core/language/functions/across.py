"""Functions across the columns of a row."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.language.function import function
from lomrix.core.language.operands import as_float, first_reason, made
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import TOO_FEW, UNDEFINED

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

    def told(self, values: Numbers, at_least: int | None) -> Column:
        """The values, missing where too few cells are present.

        Without `at_least` all must be. Then, and where none is present, a row misses its value for the reason of its
        first missing cell.
        """
        whole = all(column.type in ("integer", "boolean") for column in self.columns)
        exact = whole and bool((np.abs(values[np.isfinite(values)]) < 2**53).all())
        with np.errstate(invalid="ignore"):
            exact = exact and bool((values == np.floor(values))[np.isfinite(values)].all())
        column = made("number", values, self.columns if at_least is None else [])
        if at_least is not None:
            why, reasons = first_reason(self.columns)
            none = np.where(self.n == 0, 0 if why is None else why, 0).astype(np.uint8) * (at_least > 0)
            column = Column.of("number", values, none.astype(np.uint8), reasons)
            column = column.with_missing(self.n < at_least, TOO_FEW)
        column = column.with_missing(~np.isfinite(values), UNDEFINED)
        return made("integer", np.nan_to_num(column.values), [column]) if exact else column


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
    told = row.told(row.mean, at_least)
    return told if told.type == "number" else made("number", told.values.astype(np.float64), [told])


@function(KIND)
def sum_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sum_of("f1..f6", at_least=5): the sum of columns; all must be present, or so many as are said

    Examples
    --------
    sum_of("f1..f3") of f1 1, 1; f2 2, —; f3 6, 2 is 9, —
    """
    row = Row(columns, "sum_of")
    return row.told(row.total, at_least)


@function(KIND)
def min_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """min_of("f1..f6", at_least=1): the smallest of columns

    Examples
    --------
    min_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 1, 2
    """
    row = Row(columns, "min_of")
    return row.told(row.extreme(np.minimum, np.inf), at_least)


@function(KIND)
def max_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """max_of("f1..f6", at_least=1): the largest of columns

    Examples
    --------
    max_of("f1..f3", at_least=1) of f1 1, 7; f2 2, —; f3 6, 2 is 6, 7
    """
    row = Row(columns, "max_of")
    return row.told(row.extreme(np.maximum, -np.inf), at_least)


@function(KIND)
def sd_of(columns: Choice, *, at_least: int | None = None) -> Column:
    """sd_of("f1..f6", at_least=2): the standard deviation of columns, with n - 1 below

    Examples
    --------
    sd_of("f1..f3", at_least=2) of f1 1, 1; f2 2, —; f3 3, — is 1.0, —
    """
    row = Row(columns, "sd_of")
    told = row.told(row.standard_deviation, at_least)
    return told if told.type == "number" else made("number", told.values.astype(np.float64), [told])


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
