"""Group means with their intervals, drawn over the last key."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.rows.course import Average, Course, Courses
from lomrix.core.rows.keys import Groups
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.rows.statistics import Summary
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table


def make_group_means(
    summaries: Mapping[str, Summary],
    hidden: Callable[[str], npt.NDArray[np.bool_]],
    groups: Groups,
    by: Sequence[str],
    table: Table,
) -> Courses:
    """Return the means of each numeric variable; the last key is the axis, the others separate series."""
    axis, others = by[-1], by[:-1]
    ticks = format_ticks(groups.values[axis], table, axis)
    values = list(dict.fromkeys(ticks))
    series: dict[tuple[Any, ...], list[int]] = {}
    for index, parts in enumerate(
        zip(*(format_ticks(groups.values[name], table, name) for name in others), strict=True)
    ):
        series.setdefault(parts, []).append(index)
    if not others:
        series = {(): list(range(groups.count))}
    courses: list[Course] = []
    for name, summary in summaries.items():
        if summary.column.type not in NUMERIC or not groups.count:
            continue
        values_by_group, (middle, half) = summary.values, summary.mean_and_half_interval
        hidden_groups = hidden(name)
        mean, numbers = np.where(hidden_groups, np.nan, middle), np.where(hidden_groups, 0, values_by_group.sizes)
        averages = tuple(
            Average(
                ", ".join(map(str, parts)), np.array([values.index(ticks[average]) for average in index], np.int64),
                numbers[index], mean[index], (mean - half)[index], (mean + half)[index],
            )
            for parts, index in series.items()
        )  # fmt: skip
        entry = table.dictionary.of(name)
        axis_name = table.dictionary.of(axis).label or axis
        courses.append(
            Course(
                name, entry.label, entry.unit, tuple(values), axis_name, averages,
                tuple(np.zeros((0, len(average.places))) for average in averages), groups.count,
                ", ".join(others), is_ordered(groups.values[axis]),
            )
        )  # fmt: skip
    return Courses((", ".join(by),), tuple(courses), ())


def format_ticks(column: Column, table: Table, name: str) -> list[Any]:
    """Return the values of a key as shown on the axis: labels if there are codes."""
    codes = CodeList(table.dictionary.labels_of(name))
    texts = column.to_text().to_pylist()
    cells = column.cells()
    return [
        (reason or "—") if cell is None else codes.label_of(text) or cell
        for cell, text, reason in zip(cells, texts, column.reason_cells(np.arange(len(column))), strict=True)
    ]


def is_ordered(column: Column) -> bool:
    """Return whether the values have an order: numbers, dates, and words that hold a number."""
    if column.type != "string":
        return column.type != "boolean"
    return all(re.search(r"\d", text or "") for text in column.cells())
