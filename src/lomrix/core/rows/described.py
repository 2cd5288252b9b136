"""One variable as in a codebook: counts, missing cells by reason, and statistics."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from lomrix.core.rows.column_survey import ColumnSurvey, iterate_blocks
from lomrix.core.rows.occurrences import BLOCK
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.labelled import count_code, encode_distinct
from lomrix.core.table.variable import Variable

# The values of a variable without labels are counted if there are at most this many.
FEW_VALUES = 20
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


def summarize_variable(
    name: str, column: Column, entry: Variable, labels: Mapping[str, str], survey: ColumnSurvey | None = None
) -> VariableSummary:
    """Count and describe a column; its survey, with sums, may be known."""
    survey = ColumnSurvey.of(column, with_sums=True) if survey is None else survey
    counts = count_values(column, survey, labels) if labels or is_countable(survey) else {}
    minimum, maximum = "", ""
    if survey.ends is not None and len(survey.ends):
        minimum, maximum = survey.ends.take(np.array([0, len(survey.ends) - 1])).to_text().to_pylist()
    mean, deviation, median = compute_moments(column, survey)
    return VariableSummary(
        name, column.type, entry, survey.present, survey.reasons, list_categories(counts, labels, column.type),
        minimum, maximum, mean, deviation, median,
    )  # fmt: skip


def is_countable(survey: ColumnSurvey) -> bool:
    """Return whether counting the values makes sense: texts, booleans, and integers over a narrow range."""
    if survey.ends is None:
        return True
    if survey.ends.type != "integer" or not len(survey.ends):
        return False
    return int(survey.ends.values[-1]) - int(survey.ends.values[0]) <= WIDEST_SPAN


def count_values(column: Column, survey: ColumnSurvey, labels: Mapping[str, str]) -> dict[str, int]:
    """Return values as texts with their numbers of cells: texts in the order of their first rows, others in theirs.

    Of many values only those with a label are counted, and some others.
    """
    if survey.distinct is not None:
        texts, counts = survey.distinct.values.to_text().to_pylist(), survey.distinct.counts.tolist()
        order = range(len(texts)) if column.type == "string" else np.argsort(survey.distinct.values.values).tolist()
        return {texts[index]: counts[index] for index in order}
    if not labels:
        return {}
    others = survey.ends if survey.ends is not None else column.slice(0, BLOCK)
    texts = [*labels, *encode_distinct(others)[0][: len(labels) + FEW_VALUES]]
    found = {text: sum(count_code(block, text) for _, block in iterate_blocks(column)) for text in dict.fromkeys(texts)}
    return {text: count for text, count in found.items() if count}


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


def compute_moments(column: Column, survey: ColumnSurvey) -> tuple[float | None, float | None, float | None]:
    """Return mean, sample standard deviation and median of numbers; None if undefined."""
    if survey.sums is None or not survey.present:
        return None, None, None
    middle = [(survey.present - 1) // 2, survey.present // 2]
    # Half of each, since the sum of two large ones is beyond the range.
    median = float((survey.find_at(column, middle) / 2).sum())
    results = [float(survey.sums.means[0]), math.sqrt(survey.sums.covariance[0, 0]), median]
    mean, deviation, median_shown = (value if math.isfinite(value) else None for value in results)
    return mean, deviation, median_shown
