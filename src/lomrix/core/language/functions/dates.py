"""Functions of dates."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.functions.texts import as_texts
from lomrix.core.language.operands import make_result, parse_iso_column, subtract_times, to_time
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.numbers import Type
from lomrix.core.text.dates import parse_dates_in_forms, require_date_forms
from lomrix.core.text.times import parse_minutes

KIND = "dates"
Whole = npt.NDArray[np.int64]
ISO = "%Y-%m-%d"
ISO_TIMES = "local|%Y-%m-%d %H:%M|%Y-%m-%d %H:%M:%S"
MICROSECONDS_OF_AN_HOUR = 3_600_000_000


def split_dates(column: Column) -> tuple[Whole, Whole, Whole]:
    """Return months since 1970, day of the month, and microseconds of the day."""
    if column.is_constant:
        months, day, time = (np.broadcast_to(part, len(column)) for part in split_dates(column.slice(0, 1)))
        return months, day, time
    if column.type == "date":
        days = np.where(column.is_missing, 0, column.values.astype(np.int64))
        low, high = int(days.min(initial=0)), int(days.max(initial=0))
        zeros = np.broadcast_to(np.int64(0), len(days))
        if high - low <= len(days):  # look up a calendar of the days that can occur, which is faster
            months, day = split_days(np.arange(low, high + 1))
            return months[days - low], day[days - low], zeros
        return (*split_days(days), zeros)
    timestamps = np.where(column.is_missing, np.datetime64(0, "us"), column.values)
    days = timestamps.astype("datetime64[D]")
    return (*split_days(days.astype(np.int64)), (timestamps - days).astype(np.int64))


def split_days(days: Whole) -> tuple[Whole, Whole]:
    """Return months since 1970 and day of the month, from days since 1970."""
    months = days.astype("datetime64[D]").astype("datetime64[M]")
    return months.astype(np.int64), days - months.astype("datetime64[D]").astype(np.int64) + 1


@function(KIND)
def year(d: Column) -> Column:
    """year(d): the year of a date

    Examples
    --------
    year(d) of d 2024-03-05 is 2024
    """
    d = to_time(d, "year()")
    return make_result("integer", split_dates(d)[0] // 12 + 1970, [d])


@function(KIND)
def month(d: Column) -> Column:
    """month(d): the month of a date, 1 to 12

    Examples
    --------
    month(d) of d 2024-03-05 is 3
    """
    d = to_time(d, "month()")
    return make_result("integer", split_dates(d)[0] % 12 + 1, [d])


@function(KIND)
def day(d: Column) -> Column:
    """day(d): the day of the month

    Examples
    --------
    day(d) of d 2024-03-05 is 5
    """
    d = to_time(d, "day()")
    return make_result("integer", split_dates(d)[1], [d])


@function(KIND)
def weekday(d: Column) -> Column:
    """weekday(d): 1 for Monday to 7 for Sunday, as ISO 8601 counts

    Examples
    --------
    weekday(d) of d 2024-03-05, 2024-03-10 is 2, 7
    """
    d = to_time(d, "weekday()")
    days = np.where(d.is_missing, np.datetime64(0, "D"), d.values.astype("datetime64[D]")).astype(np.int64)
    return make_result("integer", (days + 3) % 7 + 1, [d])


@function(KIND)
def hour(t: Column) -> Column:
    """hour(t): the hour of a date and time, 0 to 23

    Examples
    --------
    hour(t) of t 2024-03-05 14:07:30, 2024-03-06 00:00:00 is 14, 0
    """
    t = require_time(t, "hour()")
    return make_result("integer", split_dates(t)[2] // MICROSECONDS_OF_AN_HOUR, [t])


@function(KIND)
def minute(t: Column) -> Column:
    """minute(t): the minute of a date and time, 0 to 59

    Examples
    --------
    minute(t) of t 2024-03-05 14:07:30, 2024-03-06 00:00:00 is 7, 0
    """
    t = require_time(t, "minute()")
    return make_result("integer", split_dates(t)[2] % MICROSECONDS_OF_AN_HOUR // 60_000_000, [t])


def require_time(column: Column, doing: str) -> Column:
    """Return an operand as a datetime.

    Raises UsageError if it has no time of day.
    """
    is_text = column.type == "string" and not column.is_without_values
    column = parse_iso_column(column, "datetime") if is_text else to_time(column, doing)
    if column.type == "date" and not column.is_without_values:
        raise UsageError(
            f"{doing} needs a date with a time, but the operand has none.", todo="Check the column's type."
        )
    return column


@function(KIND)
def days_between(start: Column, end: Column) -> Column:
    """days_between(start, end): the days from one date to another; negative if the end comes first

    Examples
    --------
    days_between(d, e) of d 2024-02-28; e 2024-03-01 is 2
    """
    first, last = to_time(start, "days_between()"), to_time(end, "days_between()")
    return subtract_times(first, last, [first, last])


def count_months(start: Column, end: Column, name: str) -> tuple[Whole, Column, Column]:
    """Return completed months from one date to another, towards 0 if the end comes first."""
    start, end = to_time(start, name), to_time(end, name)
    start_parts, end_parts = split_dates(start), split_dates(end)
    months = end_parts[0] - start_parts[0]
    early = (end_parts[1] < start_parts[1]) | ((end_parts[1] == start_parts[1]) & (end_parts[2] < start_parts[2]))
    late = (end_parts[1] > start_parts[1]) | ((end_parts[1] == start_parts[1]) & (end_parts[2] > start_parts[2]))
    return months - ((months > 0) & early) + ((months < 0) & late), start, end


@function(KIND)
def months_between(start: Column, end: Column) -> Column:
    """months_between(start, end): the completed months from one date to another

    Examples
    --------
    months_between(d, e) of d 2024-01-31, 2024-01-15; e 2024-03-30, 2024-03-15 is 1, 2
    """
    months, start, end = count_months(start, end, "months_between()")
    return make_result("integer", months, [start, end])


@function(KIND)
def years_between(start: Column, end: Column) -> Column:
    """years_between(start, end): the completed years from one date to another

    Examples
    --------
    years_between(d, e) of d 2000-06-15, 2000-06-15; e 2024-06-14, 2024-06-15 is 23, 24
    """
    months, start, end = count_months(start, end, "years_between()")
    return make_result("integer", np.sign(months) * (np.abs(months) // 12), [start, end])


@function(KIND)
def age_on(birth: Column, day: Column) -> Column:
    """age_on(birth, day): the age in completed years; 29 February counts as 1 March in other years

    Examples
    --------
    age_on(d, "2024-05-01") of d 1984-05-01, 1984-05-02, 2025-01-01 is 40, 39, —
    """
    months, birth, day = count_months(birth, day, "age_on()")
    is_unborn = ~(birth.is_missing | day.is_missing)
    is_unborn &= birth.values > day.values
    return make_result("integer", np.maximum(months, 0) // 12, [birth, day], is_unborn)


@function(KIND)
def date(text: Column, form: str = ISO) -> Column:
    """date(text, "%d/%m/%Y"): the date in a text, or the day of a datetime; separate several forms by |

    Examples
    --------
    date(t, "%d/%m/%Y") of t 05/03/2024, 31/02/2024 is 2024-03-05, —
    """
    return parse_column(text, form, "date")


@function(KIND)
def datetime_(text: Column, form: str = ISO_TIMES) -> Column:
    """datetime(text, "%d/%m/%Y %H:%M"): the date and time in a text, such as joined(day, time, with=" ")

    Examples
    --------
    hour(datetime(joined(d, t, with=" "))) of d 2024-03-05, 2024-03-06; t 9:30, 25:00 is 9, —
    """
    return parse_column(text, form, "datetime")


@function(KIND)
def to_minutes(x: Column) -> Column:
    """to_minutes(x): the minutes of a time of day or a duration in a text

    Examples
    --------
    to_minutes(t) of t 7:30, 10.30 pm, 7h 30m, 7.5 is 450, 1350, 450, —
    """
    coded = as_texts(x, "to_minutes").compact()
    minutes = [parse_minutes(text) for text in coded.strings.texts()]
    has_none = np.array([*(value is None for value in minutes), False])[coded.values]
    values = np.array([*(value or 0.0 for value in minutes), 0.0])
    type_: Type = "integer" if (values == np.floor(values)).all() else "number"
    return make_result(type_, values.astype(DTYPES[type_])[coded.values], [coded], has_none)


@function(KIND)
def minutes_between(start: Column, end: Column) -> Column:
    """minutes_between(start, end): the minutes from one time to another; negative if the end comes first

    Examples
    --------
    minutes_between(t, u) of t 2024-03-05 23:30:00; u 2024-03-06 06:45:00 is 435.0
    """
    first, last = require_time(start, "minutes_between()"), require_time(end, "minutes_between()")
    is_missing = first.is_missing | last.is_missing
    microseconds = np.where(is_missing, 0, (last.values - first.values).astype(np.int64))
    return make_result("number", microseconds / 60_000_000, [first, last])


def parse_column(column: Column, form: str, type_: Type) -> Column:
    """Return dates or datetimes from a column of text, or of either."""
    require_date_forms(form)
    column = column.fit_type("string")
    if column.type in ("date", "datetime"):
        return make_result(type_, column.values.astype(DTYPES[type_]), [column])
    if column.type != "string":
        raise UsageError(f"{type_}() needs a text, but the operand is {column.type}.", todo="Use a column of text.")
    coded = column.compact()
    timestamps, fits = parse_dates_in_forms(coded.strings.strings, form)
    values = np.append(timestamps, np.datetime64(0, "us")).astype(DTYPES[type_])[coded.values]
    return make_result(type_, values, [column], ~np.append(fits, True)[coded.values])
