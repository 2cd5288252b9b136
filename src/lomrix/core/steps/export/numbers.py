"""Columns of any type as numbers, for programs that read nothing else."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.rows.keys import sort_texts
from lomrix.core.steps.export.prepared import Recoding
from lomrix.core.table.column import Column
from lomrix.core.text.values import match_texts


def recode_as_numbers(column: Column, labels: Mapping[str, str]) -> tuple[Column, Recoding]:
    """Return a column of any type as numbers, and how it was recoded."""
    why, reasons = column.why, column.reasons
    if column.type == "boolean":
        return Column.of("integer", column.values.astype(np.int64), why, reasons), Recoding("false 0, true 1")
    if column.type in ("date", "datetime"):
        how = "dates as yyyymmdd" if column.type == "date" else "dates and times as yyyymmddhhmmss"
        return Column.of("integer", encode_datetimes(column), why, reasons), Recoding(how)
    if column.type != "string":
        return column, Recoding()
    column = column.compact()
    strings = column.strings.strings
    numbers = _parse_ids(strings)
    if numbers is not None:
        widths = set(pc.utf8_length(strings).to_pylist())
        how = "digits as numbers, leading zeros dropped" if has_leading_zero(strings) else "digits as numbers"
        how += f"; the texts had {widths.pop()} digits" if len(widths) == 1 else ""
        return Column.of("integer", _take(numbers, column.values), why, reasons), Recoding(how)
    how = f"texts became codes 1 to {len(strings):,}" if len(strings) else "no text in it: every cell is missing"
    order = order_codes(strings, labels)
    if (order == np.arange(len(order))).all():  # a missing cell holds -1
        codes = column.values.astype(np.int64) + 1
    else:
        code_of = np.zeros(len(strings), np.int64)
        code_of[order] = np.arange(1, len(strings) + 1)
        codes, strings = _take(code_of, column.values), strings.take(pa.array(order))
    return Column.of("integer", codes, why, reasons), Recoding(how, strings)


def order_codes(strings: pa.Array, labels: Mapping[str, str]) -> npt.NDArray[np.int64]:
    """Return the positions of distinct texts: those in the dictionary in its order, then the others sorted."""
    known = np.array(
        [position for position in (strings.index(text).as_py() for text in labels) if position >= 0], np.int64
    )
    order = sort_texts(strings)
    return np.concatenate([known, order[~np.isin(order, known)]]) if len(known) else order


def encode_datetimes(column: Column) -> npt.NDArray[np.int64]:
    """Return dates as numbers yyyymmdd, datetimes as yyyymmddhhmmss; 0 where missing.

    >>> day, moment = np.datetime64("2024-03-05"), np.datetime64("2024-03-05T14:07:09.5")
    >>> encode_datetimes(Column.of_cells("date", [day])), encode_datetimes(Column.of_cells("datetime", [moment]))
    (array([20240305]), array([20240305140709]))
    """
    timestamps = np.where(column.is_missing, np.datetime64(0, "us"), column.values.astype("datetime64[us]"))
    days = timestamps.astype("datetime64[D]")
    number = encode_days(days)
    if column.type == "datetime":
        seconds = (timestamps - days).astype("timedelta64[s]").astype(np.int64)
        number = number * 1_000_000 + seconds // 3600 * 10_000 + seconds // 60 % 60 * 100 + seconds % 60
    return np.where(column.is_missing, 0, number)


def encode_days(days: Array) -> npt.NDArray[np.int64]:
    """Return days as numbers yyyymmdd, by lookup in a calendar if that is shorter."""
    if not len(days):
        return np.zeros(0, np.int64)
    first, last = days.min(), days.max()
    if (last - first).astype(np.int64) < len(days):
        calendar = np.arange(first, last + 1)
        return np.asarray(_compute_digits(calendar)[(days - first).astype(np.int64)])
    return _compute_digits(days)


def _compute_digits(days: Array) -> npt.NDArray[np.int64]:
    months, years = days.astype("datetime64[M]"), days.astype("datetime64[Y]")
    number = (years.astype(np.int64) + 1970) * 100 + (months - years).astype(np.int64) + 1
    return np.asarray(number * 100 + (days - months).astype(np.int64) + 1)


def has_leading_zero(strings: pa.Array) -> bool:
    """Return whether a text of digits would lose a zero as a number."""
    return bool(match_texts(strings, r"0\d+").any())


def _parse_ids(strings: pa.Array) -> npt.NDArray[np.int64] | None:
    """Return texts of digits as numbers if these are distinct; else None."""
    if not len(strings) or not strings[0].as_py().isdecimal() or not match_texts(strings, r"\d{1,15}").all():
        return None
    numbers = strings.cast(pa.int64()).to_numpy(zero_copy_only=False)
    return numbers if len(np.unique(numbers)) == len(numbers) else None


def _take(of_distinct: npt.NDArray[np.int64], positions: Array) -> npt.NDArray[np.int64]:
    numbers: npt.NDArray[np.int64] = np.append(of_distinct, 0)[positions]  # the last element is for missing cells
    return numbers
