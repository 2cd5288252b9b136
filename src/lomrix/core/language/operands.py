"""Operands of expressions: columns and constants, with the reasons of missing cells."""

from __future__ import annotations

import datetime
import re
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import sort_texts
from lomrix.core.table.column import Column, choose_cells, is_exact
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import UNDEFINED, join_reasons, renumber_why
from lomrix.core.text.rules import UNCLEAR_DATE

Mask = npt.NDArray[np.bool_]
NUMERIC = ("integer", "number", "boolean")


def make_constant(value: int | float | str | bool, rows: int) -> Column:
    """Return a constant as a column whose rows share one cell in memory."""
    if isinstance(value, bool):
        return Column("boolean", np.broadcast_to(np.bool_(value), rows))
    if isinstance(value, int):
        return Column("integer", np.broadcast_to(np.int64(value), rows))
    if isinstance(value, float):
        return make_result("number", np.broadcast_to(np.float64(value), rows), [], ~np.isfinite(np.full(rows, value)))
    return Column("string", np.broadcast_to(np.int32(0), rows), pool=Pool.of([value]))


def merge_reasons(columns: list[Column]) -> tuple[npt.NDArray[np.uint8] | None, tuple[str, ...]]:
    """Return for each row the reason of the first missing operand."""
    reasons = join_reasons(*(column.reasons for column in columns))
    why: npt.NDArray[np.uint8] | None = None
    for column in columns:
        if column.why is None:
            continue
        numbers = renumber_why(column.why, column.reasons, reasons)
        why = numbers.copy() if why is None else np.where(why == 0, numbers, why)
    return why, reasons


def make_result(type_: Type, values: Any, operands: list[Column], undefined: Mask | None = None) -> Column:
    """Make a column of computed values: missing where an operand is, and where undefined."""
    why, reasons = merge_reasons(operands)
    column = Column.of(type_, np.asarray(values), why, reasons)
    return column if undefined is None or not undefined.any() else column.with_missing(undefined, UNDEFINED)


def to_floats(column: Column, doing: str) -> npt.NDArray[np.float64]:
    """Return the values as numbers.

    Raises UsageError if the column is not numeric.
    """
    column = column.fit_type("number") if column.type not in NUMERIC else column
    if column.type not in NUMERIC:
        raise UsageError(
            f"{doing} needs numbers, but an operand is {column.type}.",
            todo="If the column should be numbers, check lists the cells that are not.",
        )
    return column.values.astype(np.float64, copy=False)


def align(first: Column, second: Column) -> tuple[Column, Column]:
    """Return two operands of one type, so that they can be compared: numbers together, ISO text beside dates as dates.

    Raises UsageError if one is text and the other numbers.
    """
    first = first.fit_type(second.type)
    second = second.fit_type(first.type)
    kinds = {first.type, second.type}
    if len(kinds) == 1:
        return first, second
    if kinds <= set(NUMERIC):
        return to_number_column(first), to_number_column(second)
    for dates, texts in ((first, second), (second, first)):
        if dates.type in ("date", "datetime") and texts.type in ("string", "date"):
            converted = parse_iso_column(texts, dates.type)
            return (dates, converted) if dates is first else (converted, dates)
    raise UsageError(
        f"Values of type {first.type} cannot be compared with values of type {second.type}.",
        todo="Write text in quotation marks and numbers without; dates as '2024-01-31'.",
    )


def to_number_column(column: Column, doing: str = "This") -> Column:
    """Return the column as floats; an integer that float64 cannot hold exactly is undefined."""
    if column.type == "number":
        return column
    values = to_floats(column, doing)
    lost = None if column.type != "integer" else ~is_exact(column.values)
    return make_result("number", values, [column], lost)


def parse_iso_column(column: Column, type_: Type) -> Column:
    """Convert ISO texts, or dates, to dates or datetimes.

    Raises UsageError if a text is not an ISO date, or has a UTC offset, or a time of day that a date would lose.
    """
    if column.is_constant:
        return parse_iso_column(column.slice(0, 1), type_).broadcast(len(column))
    if column.type == "date":
        return column.widen(type_)
    column = column.compact()
    days = []
    for text in column.strings.texts():
        try:
            days.append(datetime.datetime.fromisoformat(text))
        except ValueError as error:
            raise UsageError(
                f'"{text}" is not a date.',
                todo="Write '2024-01-31'; read a column of dates as such, with ‹type=start=date:%d.%m.%Y› or "
                'date(start, "%d.%m.%Y").',
            ) from error
        if days[-1].tzinfo is not None:
            todo = f"Write datetime('{text}', 'local') for the time that the clock there showed, or 'utc'."
            raise UsageError(f'"{text}" has a UTC offset.', todo=todo)
        if type_ == "date" and days[-1].time() != datetime.time():
            todo = f"Write datetime('{text}'), or only the day."
            raise UsageError(f'"{text}" has a time of day, and a date is needed.', todo=todo)
    values = np.array(days, "datetime64[us]")
    array = np.append(values, np.datetime64("NaT", "us"))[column.values]
    return make_result(type_, array, [column])


def rank_texts(first: Column, second: Column) -> tuple[Array, Array]:
    """Return numbers that are equal and ordered as the texts of two columns are: `m3` before `m12`, as when sorted.

    Raises UsageError if one is a date whose order letters do not have.
    """
    for column in (first, second):
        text = column.strings.strings[0].as_py() if column.is_constant and len(column.strings) else ""
        if re.fullmatch(UNCLEAR_DATE, text):
            raise UsageError(
                f'"{text}" is a text, and would be compared by its letters.',
                todo="Read the column as dates, with ‹type=day=date:%d.%m.%Y›, and write '2024-01-31'.",
            )
    left, right = first.encode(), second.encode()
    encoded = pa.concat_arrays([left.strings.strings, right.strings.strings]).dictionary_encode()
    ranks = np.argsort(sort_texts(encoded.dictionary))
    positions = np.append(ranks[encoded.indices.to_numpy()], -1)
    return positions[left.values], positions[np.where(right.values < 0, -1, right.values + len(left.strings))]


def choose_by_condition(condition: Column, yes: Column, no: Column) -> Column:
    """Return `yes if condition else no`: missing where the condition or the chosen cell is."""
    if yes.type != no.type:
        yes, no = align(yes, no)
    takes_no = ~condition.values
    column = choose_cells(yes, no, takes_no)
    if condition.why is None:
        return column
    for number, reason in enumerate(condition.reasons, start=1):
        gone = condition.why == number
        column = set_missing(column, gone, reason)
    return column


def set_missing(column: Column, cells: Mask, reason: str) -> Column:
    """Return the column with some cells missing for a reason, whatever they were before."""
    if not cells.any():
        return column
    return column.clear_missing(cells).with_missing(cells, reason)


# The days that a calendar of four digits has.
FIRST_DAY, LAST_DAY = (np.datetime64(day, "D").astype(np.int64) for day in ("0001-01-01", "9999-12-31"))
MICROSECONDS = 86_400_000_000


def add_days(time: Column, days: Column, sign: int) -> Column:
    """Add days to a date; undefined outside the calendar."""
    present = ~(time.is_missing | days.is_missing)
    current = np.where(present, time.values.astype("datetime64[D]").astype(np.int64), 0)
    # Days beyond any calendar need not be exact.
    step = np.clip(np.where(present, days.values, 0), -(2**40), 2**40) * sign
    outside = present & ((current + step < FIRST_DAY) | (current + step > LAST_DAY))
    step = np.where(outside, 0, step)
    if time.type == "date":
        return make_result("date", (current + step).astype("datetime64[D]"), [time, days], outside)
    moved = np.where(present, time.values, np.datetime64(0, "us")) + step.astype("timedelta64[D]")
    return make_result("datetime", moved, [time, days], outside)


def subtract_times(start: Column, end: Column, operands: list[Column]) -> Column:
    """Return days between two times: integers between dates, with fractions if one has a time of day.

    `operands` lists both as written: a row gets the reason of its first missing operand.
    """
    missing = start.is_missing | end.is_missing
    if start.type == end.type == "date":
        days = (end.values - start.values).astype(np.int64)
        return make_result("integer", np.where(missing, 0, days), operands)
    times = (end.values.astype("datetime64[us]") - start.values.astype("datetime64[us]")).astype(np.int64)
    return make_result("number", np.where(missing, 0, times) / MICROSECONDS, operands)


def to_time(column: Column, doing: str) -> Column:
    """Return an operand as a date or datetime; ISO texts are parsed.

    Raises UsageError if it is not a date.
    """
    if column.type == "string" and not column.is_without_values:
        return parse_iso_column(column, "date")
    column = column.fit_type("date")
    if column.type not in ("date", "datetime"):
        raise UsageError(f"{doing} needs a date, but the operand is {column.type}.", todo="Check the column's type.")
    return column
