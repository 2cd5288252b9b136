"""Columns of any type as numbers, for programs that read nothing else."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.matching import count_codes
from lomrix.core.arrays.types import Array, Mask
from lomrix.core.combining import Combinable
from lomrix.core.rows.keys import encode_cells, sort_texts
from lomrix.core.rows.occurrences import DistinctRows
from lomrix.core.steps.export.prepared import Recoding
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_number
from lomrix.core.table.table import Table
from lomrix.core.text.rules import CODE, CODED, DECIMAL, find_codes
from lomrix.core.text.values import match_texts


@dataclass(frozen=True)
class TextNumbers(Combinable):
    """The distinct texts of a column, how often each occurs, and the numbers that they become."""

    distinct: DistinctRows
    labels: Mapping[str, str]

    @classmethod
    def of(cls, column: Column, labels: Mapping[str, str]) -> TextNumbers:
        """Count the texts of a column, or of a part of one."""
        codes, size = encode_cells(column)
        return cls(DistinctRows.of_codes(Table({"text": column}), codes, count_codes(codes, size)), labels)

    def combine(self, later: TextNumbers) -> TextNumbers:
        """Add the texts of a later part."""
        return TextNumbers(self.distinct.combine(later.distinct), self.labels)

    @cached_property
    def texts(self) -> pa.Array:
        """The distinct texts."""
        return self.distinct.values.to_text()

    @cached_property
    def numbers(self) -> tuple[Array, Recoding]:
        """The number of each text, and how it was found."""
        return number_texts(self.texts, self.labels)

    def count(self, code: str) -> int:
        """Count the cells whose number is a code."""
        return int(self.distinct.counts[self.numbers[0] == float(code)].sum()) if is_number(code) else 0


def recode_as_numbers(
    column: Column, labels: Mapping[str, str], whole: TextNumbers | None = None
) -> tuple[Column, Recoding]:
    """Return a column of any type as numbers, and how it was recoded; if it is a part of one, given all texts."""
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
    if whole is None:
        numbers, recoding = number_texts(strings, labels)
    else:
        numbers, recoding = whole.numbers
        numbers = numbers[pc.index_in(strings, value_set=whole.texts).to_numpy(zero_copy_only=False)]
    values = np.append(numbers, 0)[column.values]  # a missing cell holds -1, the place of the last one
    return Column.of("integer" if values.dtype == np.int64 else "number", values, why, reasons), recoding


def number_texts(strings: pa.Array, labels: Mapping[str, str]) -> tuple[Array, Recoding]:
    """Return the number of each of some distinct texts, and how it was found: ids of digits are numbers themselves."""
    ids = _parse_ids(strings)
    if ids is not None:
        widths = set(pc.utf8_length(strings).to_pylist())
        how = "digits as numbers, leading zeros dropped" if has_leading_zero(strings) else "digits as numbers"
        how += f"; the texts had {widths.pop()} digits" if len(widths) == 1 else ""
        return ids, Recoding(how)
    if not len(strings):
        return np.zeros(0, np.int64), Recoding("no text in it: every cell is missing")
    codes, is_kept = find_own_numbers(strings)
    order = order_codes(strings, labels)
    others = order[~is_kept[order]]
    first = int(codes.max(initial=0)) + 1
    codes[others] = np.arange(first, first + len(others))
    how = f"texts became codes {first} to {first + len(others) - 1:,}"
    if len(others) < len(strings):
        how = "texts became the numbers that they are or begin with"
        how += f", the others codes from {first:,} on" if len(others) else ""
    by_code = order[np.argsort(codes[order], kind="stable")]
    return codes, Recoding(how, strings.take(pa.array(by_code)), codes[by_code])


def find_own_numbers(strings: pa.Array) -> tuple[Array, Mask]:
    """Return the numbers that some texts are or begin with (0 for the others), and which texts have one."""
    has_number, may_be_coded = match_texts(strings, DECIMAL), match_texts(strings, f"{CODE}|{CODED}")
    codes = np.zeros(len(strings), np.float64 if has_number.any() else np.int64)
    codes[has_number] = strings.filter(pa.array(has_number)).cast(pa.float64()).to_numpy(zero_copy_only=False)
    candidates = strings.filter(pa.array(may_be_coded)).to_pylist()
    found = find_codes(candidates)
    has_code = np.array([text in found for text in candidates], np.bool_)
    positions = np.flatnonzero(may_be_coded)[has_code]
    codes[positions] = [found[text][0] for text in candidates if text in found]
    has_number[positions] = True
    return codes, has_number


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
