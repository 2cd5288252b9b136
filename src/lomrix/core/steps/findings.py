"""Findings: what a check found, rule by rule, with the rows concerned."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.language.evaluate import condition
from lomrix.core.steps.keys import grouped
from lomrix.core.steps.recode import distinct_cells
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary, Variable
from lomrix.core.table.from_text import stray_cells
from lomrix.core.table.header import NUMBER
from lomrix.core.table.table import Table
from lomrix.core.table.text_cells import SPACE, bytes_at, has_byte

RANGE = re.compile(r"(-?\d+(?:\.\d+)?)\s+to\s+(-?\d+(?:\.\d+)?)")
# Outer fences stand this many quartile distances beyond the quartiles.
FENCE = 3.0
LEAST_VALUES = 12
# Among whole numbers, cells with decimals are told where they are at most this share.
FEW = 0.05
# Keys of another shape are told where at least this share of the keys has one shape.
ONE_SHAPE = 0.9


@dataclass(frozen=True)
class Finding:
    """One rule that some cells break, or that makes them worth a look.

    Parameters
    ----------
    rule
        The rule's word.
    column
        The column concerned; empty for a rule over the row.
    rows
        Row numbers concerned, counted from 0.
    text
        What was expected, in words.
    breaks
        Whether a rule is broken; else it is only worth a look.
    """

    rule: str
    column: str
    rows: npt.NDArray[Any]
    text: str
    breaks: bool = True


def all_findings(table: Table, key: tuple[str, ...], case: tuple[str, ...]) -> list[Finding]:
    """Everything that the rules find, the worst first."""
    found = [*key_findings(table, key)]
    for name, column in table.columns.items():
        entry = table.dictionary.of(name)
        found += column_findings(name, column, entry, table.dictionary, is_key=name in key)
    found += case_findings(table, case)
    found += own_rules(table)
    order = [
        "key-missing",
        "key-repeated",
        "key-shape",
        "case-changes",
        "text-in-numbers",
        "not-listed",
        "out-of-range",
    ]
    place = {rule: at for at, rule in enumerate(order)}
    return sorted(found, key=lambda one: (not one.breaks, place.get(one.rule, len(order)), -len(one.rows)))


def key_findings(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Keys that are missing or stand in several rows."""
    if not key:
        return
    groups = grouped(table, key)
    name = ", ".join(key)
    gone = np.flatnonzero(groups.codes < 0)
    if len(gone):
        yield Finding("key-missing", name, gone, "every row has a key")
    counts = np.bincount(groups.codes[groups.codes >= 0], minlength=groups.count)
    rows = np.flatnonzero(np.append(counts > 1, False)[groups.codes])
    if len(rows):
        keys = int(np.count_nonzero(counts > 1))
        yield Finding("key-repeated", name, rows, f"each key stands once; {keys:,} do not")


def column_findings(
    name: str, column: Column, entry: Variable, dictionary: Dictionary, *, is_key: bool
) -> Iterator[Finding]:
    """What one column shows."""
    if column.type == "string":
        yield from text_findings(name, column, entry, is_key=is_key)
    listed = [*entry.allowed, *dictionary.labels_of(name)]
    unlisted = np.zeros(0, np.int64)
    if listed:
        rows = unlisted = not_listed(column, listed)
        if len(rows):
            shown = ", ".join(listed[:8]) + (" …" if len(listed) > 8 else "")
            yield Finding("not-listed", name, rows, f"one of {shown}")
    if column.type == "string":
        return
    outside = out_of_range(column, entry)
    outside[unlisted] = False
    if outside.any():
        low, high = entry.minimum, entry.maximum
        span = (
            f"{low} to {high}"
            if low is not None and high is not None
            else f"from {low}"
            if high is None
            else f"to {high}"
        )
        yield Finding("out-of-range", name, np.flatnonzero(outside), span)
    if column.type in ("number", "integer", "date", "datetime") and not listed:
        far, fences = far_out(column)
        far &= ~outside
        if far.any():
            yield Finding("far-out", name, np.flatnonzero(far), f"most lie within {fences}", breaks=False)
    if column.type == "number":
        rows = mixed_decimals(column)
        if len(rows):
            yield Finding("mixed-decimals", name, rows, "all others are whole numbers", breaks=False)


def text_findings(name: str, column: Column, entry: Variable, *, is_key: bool) -> Iterator[Finding]:
    """Stray cells, blanks around texts, and keys of another shape."""
    stray = stray_cells(column, entry)
    if stray is not None:
        type_, cells = stray
        word = "numbers" if type_ in ("number", "integer") else f"{type_}s"
        yield Finding("text-in-numbers", name, np.flatnonzero(cells), f"the other cells are {word}")
    around = blanks_around(column)
    if len(around):
        yield Finding("blanks-around", name, around, "no blank before or after the text")
    if is_key:
        odd, shape = odd_shapes(column)
        odd = np.setdiff1d(odd, around)
        if len(odd):
            yield Finding("key-shape", name, odd, f"most keys look like {shape}")


def blanks_around(column: Column) -> npt.NDArray[Any]:
    """Rows whose text begins or ends with a blank."""
    strings = column.strings.strings
    if not has_byte(strings, b" "):
        return np.zeros(0, np.int64)
    there = (bytes_at(strings, 0) == SPACE) | (bytes_at(strings, -1) == SPACE)
    if not there.any():
        return np.zeros(0, np.int64)
    return np.flatnonzero(np.append(there, False)[column.values])


def odd_shapes(column: Column) -> tuple[npt.NDArray[Any], str]:
    """Rows whose text has another shape than nearly all others (digits as 0, letters as A), and that shape."""
    column = column.compact()
    shapes = pc.replace_substring_regex(column.strings.strings, r"\d", "0")
    shapes = pc.replace_substring_regex(shapes, r"\pL", "A").dictionary_encode()
    shape_of = np.append(shapes.indices.to_numpy(zero_copy_only=False), -1)[column.values]
    counts = np.bincount(shape_of[shape_of >= 0], minlength=len(shapes.dictionary))
    if not len(counts) or counts.max() < ONE_SHAPE * counts.sum():
        return np.zeros(0, np.int64), ""
    usual = int(counts.argmax())
    return np.flatnonzero((shape_of >= 0) & (shape_of != usual)), shapes.dictionary[usual].as_py()


def not_listed(column: Column, listed: list[str]) -> npt.NDArray[Any]:
    """Rows whose value is not among the listed values or ranges."""
    places, texts, _ = distinct_cells(column)
    ranges = [(float(found[1]), float(found[2])) for found in map(RANGE.fullmatch, listed) if found]
    singles = {float(word) if NUMBER.fullmatch(word) and column.type != "string" else word for word in listed}

    def fits(text: str) -> bool:
        number = float(text) if NUMBER.fullmatch(text) else None
        if (number if column.type != "string" else text) in singles:
            return True
        return number is not None and any(low <= number <= high for low, high in ranges)

    bad = np.append(~np.array([fits(text) for text in texts], np.bool_), False)
    return np.flatnonzero(bad[places])


def out_of_range(column: Column, entry: Variable) -> npt.NDArray[np.bool_]:
    """True for the cells outside minimum and maximum."""
    outside = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    for bound, beyond in ((entry.minimum, np.less), (entry.maximum, np.greater)):
        if bound is None or is_time == isinstance(bound, int | float) or column.type == "boolean":
            continue
        limit: Any = np.datetime64(str(bound)) if is_time else bound
        outside |= ~column.is_missing & beyond(column.values, limit)
    return outside


def far_out(column: Column) -> tuple[npt.NDArray[np.bool_], str]:
    """Cells beyond the outer fences, and the fences in words.

    References
    ----------
    J. W. Tukey, "Exploratory Data Analysis" (Addison-Wesley, 1977), section 2D: values more than three times the
    distance of the quartiles beyond a quartile are "far out". Where all values are positive they must be so among
    the logarithms too, since a long tail to the right is usual in times, counts and blood values.
    """
    present = ~column.is_missing
    nothing = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    values = column.values[present].astype(np.int64 if is_time else np.float64).astype(np.float64)
    if len(values) < LEAST_VALUES:
        return nothing, ""
    beyond = beyond_fences(values)
    if beyond.any() and not is_time and values.min() > 0:
        beyond &= beyond_fences(np.log(values))
    if not beyond.any():
        return nothing, ""
    nothing[present] = beyond
    inside = column.values[present][~beyond]
    return nothing, f"{inside.min()} to {inside.max()}"


def beyond_fences(values: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """True beyond the outer fences; nothing is beyond where the quartiles are equal."""
    first, third = np.percentile(values, [25, 75])
    if first == third:
        return np.zeros(len(values), np.bool_)
    reach = FENCE * (third - first)
    return np.asarray((values < first - reach) | (values > third + reach))


def mixed_decimals(column: Column) -> npt.NDArray[Any]:
    """Rows with decimals in a column whose other cells are whole numbers."""
    present = ~column.is_missing
    fraction = present & (np.nan_to_num(column.values) != np.floor(np.nan_to_num(column.values)))
    count = int(np.count_nonzero(fraction))
    return np.flatnonzero(fraction) if 0 < count <= FEW * np.count_nonzero(present) else np.zeros(0, np.int64)


def case_findings(table: Table, case: tuple[str, ...]) -> Iterator[Finding]:
    """Variables of the case that change from row to row of one case."""
    if not case:
        return
    groups = grouped(table, case)
    for name, column in table.columns.items():
        if table.dictionary.of(name).level != "case" or name in case:
            continue
        rows = changing(groups.codes, groups.count, column)
        if len(rows):
            yield Finding("case-changes", name, rows, f"one value for each {', '.join(case)}")


def changing(codes: npt.NDArray[Any], count: int, column: Column) -> npt.NDArray[Any]:
    """Rows of the cases in which a column has several values."""
    places, _, _ = distinct_cells(column)
    rows = np.flatnonzero((codes >= 0) & (places >= 0))
    first = np.full(count, -1, np.int64)
    first[codes[rows][::-1]] = places[rows][::-1]
    differs = np.zeros(count + 1, np.bool_)
    differs[codes[rows][places[rows] != first[codes[rows]]]] = True
    return np.flatnonzero(differs[codes])


def own_rules(table: Table) -> Iterator[Finding]:
    """The team's own rules, as far as the table has their columns."""
    from lomrix.core.language.parse import names_used, parsed

    for name, text in table.dictionary.rules.items():
        if not set(names_used(parsed(text))) <= set(table.names):
            continue
        true = condition(text, table)
        rows = np.flatnonzero(~true.values & ~true.is_missing)
        if len(rows):
            yield Finding(name, "", rows, text)


def value_texts(column: Column, rows: npt.NDArray[Any]) -> list[str | None]:
    """The cells of some rows as text."""
    return list(column.take(rows).to_text().to_pylist()) if len(rows) else []
