"""Functions of numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from lomrix.core.arrays.exact import absolute, any_mask
from lomrix.core.arrays.rounding import round_decimals, round_integers
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import make_result, to_floats, to_number_column
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.numbers import Type

KIND = "numbers"
# Numbers have no more decimal places than this.
MOST_PLACES = 300
TIMES: tuple[Type, ...] = ("date", "datetime")


def to_whole(values: Array, *operands: Column) -> Column:
    """Return whole values as integers; those beyond 64 bits are undefined."""
    fits = (values >= -(2.0**63)) & (values < 2.0**63)
    return make_result("integer", np.where(fits, values, 0).astype(np.int64), list(operands), ~fits)


def compute_numbers(column: Column, name: str, compute: Callable[[Any], Any]) -> Column:
    """Compute numbers from numbers; NaN and infinity become undefined."""
    with np.errstate(all="ignore"):
        values = compute(to_floats(column, name))
    return make_result("number", values, [column], any_mask(~np.isfinite(values)))


@function(KIND)
def abs_(x: Column) -> Column:
    """abs(x): the absolute value

    Examples
    --------
    abs(-3) is 3
    """
    if x.type == "integer":
        values, overflow = absolute(x.values)
        return make_result("integer", values, [x], overflow)
    return compute_numbers(x, "abs", np.abs)


@function(KIND)
def round_(x: Column, places: Column | None = None) -> Column:
    """round(x, places): rounded to decimal places, halves to the even neighbour

    Examples
    --------
    round(x, 1) of x 2.34, 2.25 is 2.3, 2.2

    round(x, 2) of x 2.675, 1.005 is 2.68, 1.0
    """
    values = to_floats(x, "round")
    if places is None:
        return x if x.type == "integer" else to_whole(round_decimals(values, 0), x)
    places_wanted = np.nan_to_num(to_floats(places, "round"))
    if (places_wanted != np.rint(places_wanted)).any():
        raise UsageError("round() takes a whole number of places.", todo="Write round(x, 1).")
    digits = np.clip(places_wanted, -MOST_PLACES, MOST_PLACES).astype(np.int64)
    if x.type == "integer":
        whole, overflow = np.empty(len(x), np.int64), np.zeros(len(x), np.bool_)
        for count in np.unique(digits).tolist():
            rows = digits == count
            whole[rows], overflow_there = round_integers(x.values[rows], count)
            overflow[rows] = False if overflow_there is None else overflow_there
        return make_result("integer", whole, [x, places], overflow)
    result = np.empty(len(values))
    for count in np.unique(digits).tolist():
        rows = digits == count
        result[rows] = round_decimals(values[rows], count)
    if digits.max(initial=0) <= 0:
        return to_whole(result, x, places)
    return make_result("number", result, [x, places])


@function(KIND)
def floor(x: Column) -> Column:
    """floor(x): the largest integer not above x

    Examples
    --------
    floor(x) of x 2.7, -2.1 is 2, -3
    """
    return x if x.type == "integer" else to_whole(np.floor(to_floats(x, "floor")), x)


@function(KIND)
def ceiling(x: Column) -> Column:
    """ceiling(x): the smallest integer not below x

    Examples
    --------
    ceiling(x) of x 2.1, -2.7 is 3, -2
    """
    return x if x.type == "integer" else to_whole(np.ceil(to_floats(x, "ceiling")), x)


@function(KIND)
def sqrt(x: Column) -> Column:
    """sqrt(x): the square root

    Examples
    --------
    sqrt(x) of x 9, -9 is 3.0, —
    """
    return compute_numbers(x, "sqrt", np.sqrt)


@function(KIND)
def exp(x: Column) -> Column:
    """exp(x): e to the power x

    Examples
    --------
    exp(0) is 1.0
    """
    return compute_numbers(x, "exp", np.exp)


@function(KIND)
def log(x: Column) -> Column:
    """log(x): the natural logarithm

    Examples
    --------
    log(x) of x 1, 0 is 0.0, —
    """
    return compute_numbers(x, "log", np.log)


@function(KIND)
def log10(x: Column) -> Column:
    """log10(x): the logarithm to base 10

    Examples
    --------
    log10(x) of x 1000, -1 is 3.0, —
    """
    return compute_numbers(x, "log10", np.log10)


@function(KIND)
def min_(x: Column, y: Column, *more: Column) -> Column:
    """min(x, y, …): the minimum of the operands, also of dates

    Examples
    --------
    min(x, 5) of x 3, 8, — is 3, 5, —
    """
    return extreme((x, y, *more), np.minimum, "min")


@function(KIND)
def max_(x: Column, y: Column, *more: Column) -> Column:
    """max(x, y, …): the maximum of the operands, also of dates

    Examples
    --------
    max(x, 5) of x 3, 8, — is 5, 8, —
    """
    return extreme((x, y, *more), np.maximum, "max")


def extreme(columns: tuple[Column, ...], pick: Any, name: str) -> Column:
    """Return the minimum or maximum of the operands in each row."""
    kinds = {column.type for column in columns if not column.is_without_values}
    kept: Type = "integer" if kinds <= {"integer", "boolean"} else "number"
    kept = next(iter(kinds)) if len(kinds) == 1 and kinds <= set(TIMES) else kept
    columns = tuple(column.fit_type(kept) for column in columns)
    if kept == "number":
        columns = tuple(to_number_column(column, f"{name}()") for column in columns)
    arrays = [column.values if kept in TIMES else column.values.astype(DTYPES[kept]) for column in columns]
    values = arrays[0]
    for array in arrays[1:]:
        values = pick(values, array)
    return make_result(kept, values, list(columns))
