"""One variable as a codebook tells of it: counts, missing cells by reason, and statistics."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from lomrix.core.arrays.statistics import Values, order_statistic
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.labelled import distinct_texts
from lomrix.core.table.variable import Variable

# A variable without labels whose values are so few has them counted.
FEW_VALUES = 20
NUMERIC = ("integer", "number")
# Whole numbers that are further apart are not counted one by one.
WIDEST_SPAN = 1_000_000


@dataclass(frozen=True)
class Category:
    """One value with its label and its number of cells."""

    value: str
    label: str
    cells: int


@dataclass(frozen=True)
class DescribedVariable:
    """A variable with its counts.

    Parameters
    ----------
    name, type
        Of the column.
    entry
        What the dictionary says of it.
    present
        Number of cells with a value.
    missing
        Number of missing cells by reason.
    categories
        Values with labels in the dictionary's order, values without a label after them; empty where the values are
        many and have no labels.
    smallest, largest
        As text; empty where there is no value.
    mean, deviation, median
        Of numbers; None where there are none. The deviation is that of a sample, with n - 1.
    """

    name: str
    type: str
    entry: Variable
    present: int
    missing: Mapping[str, int]
    categories: tuple[Category, ...] = ()
    smallest: str = ""
    largest: str = ""
    mean: float | None = None
    deviation: float | None = None
    median: float | None = None


def described(name: str, column: Column, entry: Variable, labels: Mapping[str, str]) -> DescribedVariable:
    """Count a column.

    Parameters
    ----------
    name, column
        The column.
    entry, labels
        What the dictionary says of it, and its codes.
    """
    counts = counted_values(column) if labels or has_few_values(column) else {}
    smallest, largest = extremes(column)
    mean, deviation, median = moments(column)
    return DescribedVariable(
        name, column.type, entry, len(column) - column.missing_count, column.reason_counts(),
        categories(counts, labels, column.type),
        smallest, largest, mean, deviation, median,
    )  # fmt: skip


def has_few_values(column: Column) -> bool:
    """True where it is worth counting the values of a column: texts, booleans, and whole numbers close together."""
    if column.type in ("string", "boolean"):
        return True
    if column.type != "integer" or not len(column):
        return False
    return int(column.values.max()) - int(column.values.min()) <= WIDEST_SPAN


def counted_values(column: Column) -> dict[str, int]:
    """Each value as text with its number of cells."""
    texts, places = distinct_texts(column)
    return dict(zip(texts, np.bincount(places[places >= 0], minlength=len(texts)).tolist(), strict=True))


def categories(counts: Mapping[str, int], labels: Mapping[str, str], type_: str) -> tuple[Category, ...]:
    """Values with their labels: every code of the dictionary, and what else occurs.

    Examples
    --------
    >>> found = categories({"1": 4, "3": 1}, {"1": "day", "2": "night"}, "integer")
    >>> [(one.value, one.label, one.cells) for one in found]
    [('1', 'day', 4), ('2', 'night', 0), ('3', '', 1)]
    """
    if not labels:
        few = len(counts) <= FEW_VALUES and type_ in ("string", "boolean", "integer")
        return tuple(Category(text, "", count) for text, count in counts.items()) if few else ()
    known = CodeList(labels)
    cells = dict.fromkeys(labels, 0)
    others: dict[str, int] = {}
    for text, count in counts.items():
        code = known.code_of(text)
        if code is None:
            others[text] = count
        else:
            cells[code] += count
    listed = [Category(code, labels[code], count) for code, count in cells.items()]
    return (*listed, *(Category(text, "", count) for text, count in list(others.items())[:FEW_VALUES]))


def extremes(column: Column) -> tuple[str, str]:
    """The smallest and the largest value as text; empty for texts, and where there is no value."""
    present = np.flatnonzero(~column.is_missing)
    if column.type in ("string", "boolean") or not len(present):
        return "", ""
    values = column.values[present]
    ends = column.take(present[np.array([values.argmin(), values.argmax()])]).to_text().to_pylist()
    return str(ends[0]), str(ends[1])


def moments(column: Column) -> tuple[float | None, float | None, float | None]:
    """Mean, standard deviation of a sample, and median of numbers; None where they are not defined."""
    values = column.values[~column.is_missing] if column.type in NUMERIC else np.zeros(0)
    if not len(values):
        return None, None, None
    whole = Values(np.zeros(len(values), np.int64), values, 1)
    found = [float(whole.mean[0]), float(whole.standard_deviation[0]), median_of(values)]
    mean, deviation, median = (value if math.isfinite(value) else None for value in found)
    return mean, deviation, median


def median_of(values: np.ndarray) -> float:
    """The median: the mean of the two in the middle where their number is even."""
    low, high = (len(values) - 1) // 2, len(values) // 2
    return (float(order_statistic(values, low)) + float(order_statistic(values, high))) / 2
