"""Operands: columns and constants on their way through an expression, with the reasons of what is missing."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.table.column import Column, either, is_exact
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import UNDEFINED, joined_reasons, renumbered
from lomrix.core.table.types import Type

Mask = npt.NDArray[np.bool_]
NUMERIC = ("integer", "number", "boolean")


def constant(value: int | float | str | bool, rows: int) -> Column:
    """A constant as a column, whose rows all are one cell of the memory."""
    if isinstance(value, bool):
        return Column("boolean", np.broadcast_to(np.bool_(value), rows))
    if isinstance(value, int):
        return Column("integer", np.broadcast_to(np.int64(value), rows))
    if isinstance(value, float):
        return made("number", np.broadcast_to(np.float64(value), rows), [], ~np.isfinite(np.full(rows, value)))
    return Column("string", np.broadcast_to(np.int32(0), rows), pool=Pool.of([value]))


def first_reason(columns: list[Column]) -> tuple[npt.NDArray[np.uint8] | None, tuple[str, ...]]:
    """Row by row the reason of the first operand that is missing."""
    reasons = joined_reasons(*(column.reasons for column in columns))
    why: npt.NDArray[np.uint8] | None = None
    for column in columns:
        if column.why is None:
            continue
        own = renumbered(column.why, column.reasons, reasons)
        why = own.copy() if why is None else np.where(why == 0, own, why)
    return why, reasons


def made(type_: Type, values: Any, operands: list[Column], undefined: Mask | None = None) -> Column:
    """A column of computed values: missing where an operand is, and where nothing could be computed."""
    why, reasons = first_reason(operands)
    column = Column.of(type_, np.asarray(values), why, reasons)
    return column if undefined is None or not undefined.any() else column.with_missing(undefined, UNDEFINED)


def as_float(column: Column, doing: str) -> npt.NDArray[np.float64]:
    """The values as numbers.

    Raises
    ------
    UsageError
        Where the column is none of numbers.
    """
    column = column.fitting("number") if column.type not in NUMERIC else column
    if column.type not in NUMERIC:
        raise UsageError(
            f"{doing} needs numbers, but an operand is {column.type}.",
            todo="If the column should be numbers, check names the cells that keep it from that.",
        )
    return column.values.astype(np.float64, copy=False)


def aligned(first: Column, second: Column) -> tuple[Column, Column]:
    """Two operands of one type, so that they can be compared: numbers together, ISO text beside dates as a date.

    Raises
    ------
    UsageError
        Where text meets numbers.
    """
    first = first.fitting(second.type)
    second = second.fitting(first.type)
    kinds = {first.type, second.type}
    if len(kinds) == 1:
        return first, second
    if kinds <= set(NUMERIC):
        return as_number(first), as_number(second)
    for one, other in ((first, second), (second, first)):
        if one.type in ("date", "datetime") and other.type in ("string", "date"):
            told = from_iso(other, one.type)
            return (one, told) if one is first else (told, one)
    raise UsageError(
        f"Values of type {first.type} cannot be compared with values of type {second.type}.",
        todo="Write text in quotation marks and numbers without; dates as '2024-01-31'.",
    )


def as_number(column: Column, doing: str = "This") -> Column:
    """The column as numbers; a whole number that decimals do not hold exactly is undefined."""
    if column.type == "number":
        return column
    values = as_float(column, doing)
    lost = None if column.type != "integer" else ~is_exact(column.values)
    return made("number", values, [column], lost)


def from_iso(column: Column, type_: Type) -> Column:
    """ISO texts, or dates, as dates or datetimes.

    Raises
    ------
    UsageError
        Where a text is no ISO date.
    """
    if column.is_constant:
        return from_iso(column.part(0, 1), type_).in_all(len(column))
    if column.type == "date":
        return column.widened(type_)
    column = column.compact()
    try:
        days = [datetime.datetime.fromisoformat(text) for text in column.strings.texts()]
    except ValueError as error:
        raise UsageError(
            f"A date is compared with a text that is none: {error}.", todo="Write '2024-01-31'."
        ) from error
    values = np.array(days, "datetime64[us]")
    array = np.append(values, np.datetime64("NaT", "us"))[column.values]
    return made(type_, array, [column])


def text_ranks(first: Column, second: Column) -> tuple[Array, Array]:
    """Numbers that are equal and ordered as the texts of two columns are."""
    one, two = first.encoded(), second.encoded()
    texts = pa.concat_arrays([one.strings.strings, two.strings.strings])
    distinct, places = np.unique(np.array(texts.to_pylist(), dtype=object), return_inverse=True)
    del distinct
    places = np.append(places, -1)
    return places[one.values], places[np.where(two.values < 0, -1, two.values + len(one.strings))]


def chosen(condition: Column, yes: Column, no: Column) -> Column:
    """`yes if condition else no`: missing where the condition is, or the cell that was chosen."""
    if yes.type != no.type:
        yes, no = aligned(yes, no)
    takes_no = ~condition.values
    column = either(yes, no, takes_no)
    if condition.why is None:
        return column
    for number, reason in enumerate(condition.reasons, start=1):
        gone = condition.why == number
        column = cleared_then_missing(column, gone, reason)
    return column


def cleared_then_missing(column: Column, cells: Mask, reason: str) -> Column:
    """The column with some cells missing for a reason, whatever they were before."""
    if not cells.any():
        return column
    return column.cleared(cells).with_missing(cells, reason)


# The days that a calendar of four digits has.
FIRST_DAY, LAST_DAY = (np.datetime64(day, "D").astype(np.int64) for day in ("0001-01-01", "9999-12-31"))
MICROSECONDS = 86_400_000_000


def moved_date(time: Column, days: Column, sign: int) -> Column:
    """A date some days on, or back; undefined where no calendar has it."""
    present = ~(time.is_missing | days.is_missing)
    own = np.where(present, time.values.astype("datetime64[D]").astype(np.int64), 0)
    # So many days that they leave every calendar need not be counted exactly.
    step = np.clip(np.where(present, days.values, 0), -(2**40), 2**40) * sign
    outside = present & ((own + step < FIRST_DAY) | (own + step > LAST_DAY))
    step = np.where(outside, 0, step)
    if time.type == "date":
        return made("date", (own + step).astype("datetime64[D]"), [time, days], outside)
    moved = np.where(present, time.values, np.datetime64(0, "us")) + step.astype("timedelta64[D]")
    return made("datetime", moved, [time, days], outside)


def time_between(start: Column, end: Column, operands: list[Column]) -> Column:
    """Days from one time to another: whole ones between dates, with parts of days where one has a time of day.

    Parameters
    ----------
    start, end
        The times.
    operands
        Both as they were written: a row misses its result for the reason of the first that is missing.
    """
    gone = start.is_missing | end.is_missing
    if start.type == end.type == "date":
        days = (end.values - start.values).astype(np.int64)
        return made("integer", np.where(gone, 0, days), operands)
    times = (end.values.astype("datetime64[us]") - start.values.astype("datetime64[us]")).astype(np.int64)
    return made("number", np.where(gone, 0, times) / MICROSECONDS, operands)


def as_time(column: Column, doing: str) -> Column:
    """An operand as a date or datetime; ISO texts are read.

    Raises
    ------
    UsageError
        Where it is none.
    """
    if column.type == "string" and not column.is_without_values:
        return from_iso(column, "date")
    column = column.fitting("date")
    if column.type not in ("date", "datetime"):
        raise UsageError(f"{doing} needs a date, but the operand is {column.type}.", todo="Check the column's type.")
    return column
