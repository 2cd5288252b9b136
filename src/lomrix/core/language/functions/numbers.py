"""Functions of numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from lomrix.core.arrays.exact import either_undefined, sizes_without_sign
from lomrix.core.arrays.rounding import round_decimals, round_whole
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import as_float, as_number, made
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.types import Type

KIND = "numbers"
# Numbers have no more decimal places than this.
MOST_PLACES = 300
TIMES: tuple[Type, ...] = ("date", "datetime")


def as_whole(values: Array, *operands: Column) -> Column:
    """Whole values as integers; those beyond 64 bits are undefined."""
    held = (values >= -(2.0**63)) & (values < 2.0**63)
    return made("integer", np.where(held, values, 0).astype(np.int64), list(operands), ~held)


def computed(column: Column, name: str, compute: Callable[[Any], Any]) -> Column:
    """Numbers of numbers; what is none or infinite is undefined, and says nothing on the screen."""
    with np.errstate(all="ignore"):
        values = compute(as_float(column, name))
    return made("number", values, [column], either_undefined(~np.isfinite(values)))


@function(KIND)
def abs_(x: Column) -> Column:
    """abs(x): the size without the sign

    Examples
    --------
    abs(-3) is 3
    """
    if x.type == "integer":
        values, beyond = sizes_without_sign(x.values)
        return made("integer", values, [x], beyond)
    return computed(x, "abs", np.abs)


@function(KIND)
def round_(x: Column, places: Column | None = None) -> Column:
    """round(x, places): rounded to so many decimal places, halves to the even neighbour

    Examples
    --------
    round(x, 1) of x 2.34, 2.25 is 2.3, 2.2

    round(x, 2) of x 2.675, 1.005 is 2.68, 1.0
    """
    values = as_float(x, "round")
    if places is None:
        return x if x.type == "integer" else as_whole(round_decimals(values, 0), x)
    wanted = np.nan_to_num(as_float(places, "round"))
    if (wanted != np.rint(wanted)).any():
        raise UsageError("round() takes a whole number of places.", todo="Write round(x, 1).")
    digits = np.clip(wanted, -MOST_PLACES, MOST_PLACES).astype(np.int64)
    if x.type == "integer":
        whole, beyond = np.empty(len(x), np.int64), np.zeros(len(x), np.bool_)
        for place in np.unique(digits).tolist():
            rows = digits == place
            whole[rows], outside = round_whole(x.values[rows], place)
            beyond[rows] = False if outside is None else outside
        return made("integer", whole, [x, places], beyond)
    result = np.empty(len(values))
    for place in np.unique(digits).tolist():
        rows = digits == place
        result[rows] = round_decimals(values[rows], place)
    if digits.max(initial=0) <= 0:
        return as_whole(result, x, places)
    return made("number", result, [x, places])


@function(KIND)
def floor(x: Column) -> Column:
    """floor(x): the next whole number below

    Examples
    --------
    floor(x) of x 2.7, -2.1 is 2, -3
    """
    return x if x.type == "integer" else as_whole(np.floor(as_float(x, "floor")), x)


@function(KIND)
def ceiling(x: Column) -> Column:
    """ceiling(x): the next whole number above

    Examples
    --------
    ceiling(x) of x 2.1, -2.7 is 3, -2
    """
    return x if x.type == "integer" else as_whole(np.ceil(as_float(x, "ceiling")), x)


@function(KIND)
def sqrt(x: Column) -> Column:
    """sqrt(x): the square root

    Examples
    --------
    sqrt(x) of x 9, -9 is 3.0, —
    """
    return computed(x, "sqrt", np.sqrt)


@function(KIND)
def exp(x: Column) -> Column:
    """exp(x): e to the power x

    Examples
    --------
    exp(0) is 1.0
    """
    return computed(x, "exp", np.exp)


@function(KIND)
def log(x: Column) -> Column:
    """log(x): the natural logarithm

    Examples
    --------
    log(x) of x 1, 0 is 0.0, —
    """
    return computed(x, "log", np.log)


@function(KIND)
def log10(x: Column) -> Column:
    """log10(x): the logarithm to base 10

    Examples
    --------
    log10(x) of x 1000, -1 is 3.0, —
    """
    return computed(x, "log10", np.log10)


@function(KIND)
def min_(x: Column, y: Column, *more: Column) -> Column:
    """min(x, y, …): the smallest of the operands, also of dates

    Examples
    --------
    min(x, 5) of x 3, 8, — is 3, 5, —
    """
    return extreme((x, y, *more), np.minimum, "min")


@function(KIND)
def max_(x: Column, y: Column, *more: Column) -> Column:
    """max(x, y, …): the largest of the operands, also of dates

    Examples
    --------
    max(x, 5) of x 3, 8, — is 5, 8, —
    """
    return extreme((x, y, *more), np.maximum, "max")


def extreme(columns: tuple[Column, ...], pick: Any, name: str) -> Column:
    """The smallest or largest of some operands in each row."""
    kinds = {column.type for column in columns if not column.is_without_values}
    kept: Type = "integer" if kinds <= {"integer", "boolean"} else "number"
    kept = next(iter(kinds)) if len(kinds) == 1 and kinds <= set(TIMES) else kept
    columns = tuple(column.fitting(kept) for column in columns)
    if kept == "number":
        columns = tuple(as_number(column, f"{name}()") for column in columns)
    arrays = [column.values if kept in TIMES else column.values.astype(DTYPES[kept]) for column in columns]
    values = arrays[0]
    for array in arrays[1:]:
        values = pick(values, array)
    return made(kept, values, list(columns))
