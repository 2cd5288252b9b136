"""The functions of the expression language."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.operands import aligned, as_float, made
from lomrix.core.table.column import Column, either
from lomrix.core.table.pool import Pool

# Numbers have no more decimal places than this.
MOST_PLACES = 300


@dataclass(frozen=True)
class Function:
    """One function: how it is written, what it gives, and how it is computed."""

    usage: str
    gives: str
    compute: Callable[..., Column]
    least: int = 1
    most: int = 1


def _of_numbers(compute: Callable[[Any], Any], name: str) -> Callable[[Column], Column]:
    def apply(column: Column) -> Column:
        if column.type == "integer":
            return made("integer", compute(column.values), [column])
        values = compute(as_float(column, name))
        return whole_or_number(values, column) if name == "floor" else made("number", values, [column])

    return apply


def whole_or_number(values: Array, *operands: Column) -> Column:
    """Whole values as integers where all of them can be."""
    if np.abs(np.nan_to_num(values)).max(initial=0) < 2.0**63:
        return made("integer", np.nan_to_num(values), list(operands))
    return made("number", values, list(operands))


def rounded(column: Column, places: Column | None = None) -> Column:
    """Rounded half to even, to a number of decimal places, which may differ from row to row."""
    values = as_float(column, "round")
    if places is None:
        return column if column.type == "integer" else whole_or_number(np.round(values), column)
    digits = np.clip(np.nan_to_num(as_float(places, "round")), -MOST_PLACES, MOST_PLACES).astype(np.int64)
    result = np.empty(len(values))
    for place in np.unique(digits).tolist():
        rows = digits == place
        result[rows] = np.round(values[rows], place)
    if digits.max(initial=0) <= 0:
        return whole_or_number(result, column, places)
    return made("number", result, [column, places])


def _date_part(name: str) -> Callable[[Column], Column]:
    def apply(column: Column) -> Column:
        if column.type not in ("date", "datetime"):
            raise UsageError(
                f"{name}() needs a date, but the operand is {column.type}.", todo="Check the column's type."
            )
        days = np.where(column.is_missing, np.datetime64(0, "D"), column.values.astype("datetime64[D]"))
        months = days.astype("datetime64[M]").astype(np.int64)
        values = {
            "year": months // 12 + 1970,
            "month": months % 12 + 1,
            "day": (days - days.astype("datetime64[M]").astype("datetime64[D]")).astype(np.int64) + 1,
        }[name]
        return made("integer", values, [column])

    return apply


def _of_texts(compute: Callable[..., Any], type_: Any) -> Callable[..., Column]:
    """A function of text, computed once per distinct text."""

    def apply(column: Column, *rest: Column) -> Column:
        words = [_word(one) for one in rest]
        if column.type != "string":
            raise UsageError(f"A function of text was given a {column.type}.", todo="Give it a column of text.")
        column = column.encoded()
        result = compute(column.strings.strings, *words)
        if type_ == "string":
            return Column.of_strings(column.values, Pool(result), column.why, column.reasons)
        values = np.append(np.asarray(result.to_numpy(zero_copy_only=False)), 0)
        return made(type_, values[column.values], [column])

    return apply


def _word(column: Column) -> str:
    if column.type != "string" or len(column.strings) != 1:
        raise UsageError("The second operand must be a text in quotation marks.")
    return column.strings.texts()[0]


def is_missing(column: Column) -> Column:
    """True where the cell is missing; never missing itself."""
    return Column.of("boolean", column.is_missing)


def reason(column: Column) -> Column:
    """The reason as text; an empty text where the cell is present."""
    why = np.zeros(len(column), np.int32) if column.why is None else column.why.astype(np.int32)
    return Column.of_strings(why, Pool(pa.array(["", *column.reasons], pa.large_string())))


def first_present(*columns: Column) -> Column:
    """The first operand that is present."""
    result = columns[0]
    for other in columns[1:]:
        if result.type != other.type:
            result, other = aligned(result, other)
        result = either(result, other, result.is_missing & ~other.is_missing)
    return result


def _extreme(pick: Any, name: str) -> Callable[..., Column]:
    def apply(*columns: Column) -> Column:
        whole = all(column.type == "integer" for column in columns)
        values = columns[0].values if whole else as_float(columns[0], name)
        for column in columns[1:]:
            values = pick(values, column.values if whole else as_float(column, name))
        return made("integer" if whole else "number", values, list(columns))

    return apply


FUNCTIONS: dict[str, Function] = {
    "abs": Function("abs(x)", "size without sign", _of_numbers(np.abs, "abs")),
    "round": Function("round(x, places)", "rounded half to even", rounded, 1, 2),
    "floor": Function("floor(x)", "next whole number below", _of_numbers(np.floor, "floor")),
    "min": Function("min(x, y, …)", "smallest of the operands", _extreme(np.minimum, "min"), 2, 99),
    "max": Function("max(x, y, …)", "largest of the operands", _extreme(np.maximum, "max"), 2, 99),
    "year": Function("year(d)", "year of a date", _date_part("year")),
    "month": Function("month(d)", "month of a date, 1 to 12", _date_part("month")),
    "day": Function("day(d)", "day of the month", _date_part("day")),
    "length": Function("length(t)", "number of signs in a text", _of_texts(pc.utf8_length, "integer")),
    "lower": Function("lower(t)", "text in small letters", _of_texts(pc.utf8_lower, "string")),
    "upper": Function("upper(t)", "text in capitals", _of_texts(pc.utf8_upper, "string")),
    "strip": Function("strip(t)", "text without blanks around it", _of_texts(pc.utf8_trim_whitespace, "string")),
    "contains": Function("contains(t, 'part')", "true where the text has the part",
                         _of_texts(lambda texts, part: pc.match_substring(texts, part), "boolean"), 2, 2),
    "begins": Function("begins(t, 'part')", "true where the text begins so",
                       _of_texts(lambda texts, part: pc.starts_with(texts, part), "boolean"), 2, 2),
    "ends": Function("ends(t, 'part')", "true where the text ends so",
                     _of_texts(lambda texts, part: pc.ends_with(texts, part), "boolean"), 2, 2),
    "is_missing": Function("is_missing(x)", "true where the cell is missing", is_missing),
    "reason": Function("reason(x)", "why a cell is missing, as text", reason),
    "first_present": Function("first_present(x, y, …)", "first operand that is not missing", first_present, 2, 99),
}  # fmt: skip
