"""Group means with their intervals, to be drawn over the last key."""

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
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table


def group_means(
    summaries: Mapping[str, Summary],
    hidden: Callable[[str], npt.NDArray[np.bool_]],
    groups: Groups,
    by: Sequence[str],
    table: Table,
) -> Courses:
    """The means of each variable of numbers.

    Parameters
    ----------
    summaries
        Each variable in its groups.
    hidden
        For a variable, the groups that must not be shown.
    groups, by
        The groups, and the names of their keys; the last one is the axis, the others set series apart.
    table
        What the groups are of.
    """
    axis, others = by[-1], by[:-1]
    ticks = shown(groups.values[axis], table, axis)
    values = list(dict.fromkeys(ticks))
    series: dict[tuple[Any, ...], list[int]] = {}
    for at, parts in enumerate(zip(*(shown(groups.values[name], table, name) for name in others), strict=True)):
        series.setdefault(parts, []).append(at)
    if not others:
        series = {(): list(range(groups.count))}
    drawn: list[Course] = []
    for name, summary in summaries.items():
        if summary.column.type not in NUMERIC or not groups.count:
            continue
        found, (middle, half) = summary.values, summary.mean_and_half_interval
        few = hidden(name)
        mean, numbers = np.where(few, np.nan, middle), np.where(few, 0, found.sizes)
        averages = tuple(
            Average(
                ", ".join(map(str, parts)), np.array([values.index(ticks[one]) for one in at], np.int64),
                numbers[at], mean[at], (mean - half)[at], (mean + half)[at],
            )
            for parts, at in series.items()
        )  # fmt: skip
        entry = table.dictionary.of(name)
        axis_name = table.dictionary.of(axis).label or axis
        drawn.append(
            Course(
                name, entry.label, entry.unit, tuple(values), axis_name, averages,
                tuple(np.zeros((0, len(one.places))) for one in averages), groups.count,
                ", ".join(others), comes_in_order(groups.values[axis]),
            )
        )  # fmt: skip
    return Courses((", ".join(by),), tuple(drawn), ())


def shown(column: Column, table: Table, name: str) -> list[Any]:
    """The values of a key as they stand at the axis: labels where there are codes."""
    codes = CodeList(table.dictionary.labels_of(name))
    texts = column.to_text().to_pylist()
    cells = column.cells()
    return [
        (reason or "—") if cell is None else codes.label_of(text) or cell
        for cell, text, reason in zip(cells, texts, column.reason_cells(np.arange(len(column))), strict=True)
    ]


def comes_in_order(column: Column) -> bool:
    """True where the values come one after another: numbers, dates, and words that hold a number."""
    if column.type != "string":
        return column.type != "boolean"
    return all(re.search(r"\d", text or "") for text in column.cells())
