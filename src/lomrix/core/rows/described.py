"""One variable as in a codebook: counts, missing cells by reason, and statistics."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from lomrix.core.arrays.order_statistics import order_statistic
from lomrix.core.arrays.statistics import Values
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.labelled import encode_distinct
from lomrix.core.table.variable import Variable

# The values of a variable without labels are counted if there are at most this many.
FEW_VALUES = 20
NUMERIC = ("integer", "number")
# Integers over a wider range are not counted one by one.
WIDEST_SPAN = 1_000_000


@dataclass(frozen=True)
class Category:
    """One value with its label and its number of cells."""

    value: str
    label: str
    cells: int


@dataclass(frozen=True)
class VariableSummary:
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
    minimum: str = ""
    maximum: str = ""
    mean: float | None = None
    deviation: float | None = None
    median: float | None = None


def summarize_variable(name: str, column: Column, entry: Variable, labels: Mapping[str, str]) -> VariableSummary:
    """Count and describe a column."""
    counts = count_values(column) if labels or is_countable(column) else {}
    minimum, maximum = find_extremes(column)
    mean, deviation, median = compute_moments(column)
    return VariableSummary(
        name, column.type, entry, len(column) - column.missing_count, column.reason_counts(),
        list_categories(counts, labels, column.type),
        minimum, maximum, mean, deviation, median,
    )  # fmt: skip


def is_countable(column: Column) -> bool:
    """Return whether counting the values makes sense: texts, booleans, and integers over a narrow range."""
    if column.type in ("string", "boolean"):
        return True
    if column.type != "integer" or not len(column):
        return False
    return int(column.values.max()) - int(column.values.min()) <= WIDEST_SPAN


def count_values(column: Column) -> dict[str, int]:
    """Return each value as text with its number of cells."""
    texts, positions = encode_distinct(column)
    return dict(zip(texts, np.bincount(positions[positions >= 0], minlength=len(texts)).tolist(), strict=True))


def list_categories(counts: Mapping[str, int], labels: Mapping[str, str], type_: str) -> tuple[Category, ...]:
    """List values with labels: every code of the dictionary, and what else occurs.

    >>> found = list_categories({"1": 4, "3": 1}, {"1": "day", "2": "night"}, "integer")
    >>> [(one.value, one.label, one.cells) for one in found]
    [('1', 'day', 4), ('2', 'night', 0), ('3', '', 1)]
    """
    if not labels:
        few = len(counts) <= FEW_VALUES and type_ in ("string", "boolean", "integer")
        return tuple(Category(text, "", count) for text, count in counts.items()) if few else ()
    code_list = CodeList(labels)
    cells = dict.fromkeys(labels, 0)
    others: dict[str, int] = {}
    for text, count in counts.items():
        code = code_list.code_of(text)
        if code is None:
            others[text] = count
        else:
            cells[code] += count
    labelled = [Category(code, labels[code], count) for code, count in cells.items()]
    return (*labelled, *(Category(text, "", count) for text, count in list(others.items())[:FEW_VALUES]))


def find_extremes(column: Column) -> tuple[str, str]:
    """Return minimum and maximum as text; empty for strings, and without values."""
    present = np.flatnonzero(~column.is_missing)
    if column.type in ("string", "boolean") or not len(present):
        return "", ""
    values = column.values[present]
    texts = column.take(present[np.array([values.argmin(), values.argmax()])]).to_text().to_pylist()
    return str(texts[0]), str(texts[1])


def compute_moments(column: Column) -> tuple[float | None, float | None, float | None]:
    """Return mean, sample standard deviation and median of numbers; None if undefined."""
    values = column.values[~column.is_missing] if column.type in NUMERIC else np.zeros(0)
    if not len(values):
        return None, None, None
    statistics = Values(np.zeros(len(values), np.int64), values, 1)
    results = [float(statistics.mean[0]), float(statistics.standard_deviation[0]), compute_median(values)]
    mean, deviation, median = (value if math.isfinite(value) else None for value in results)
    return mean, deviation, median


def compute_median(values: np.ndarray) -> float:
    """Return the median: the mean of the middle two of an even number of values."""
    low, high = (len(values) - 1) // 2, len(values) // 2
    return (float(order_statistic(values, low)) + float(order_statistic(values, high))) / 2
