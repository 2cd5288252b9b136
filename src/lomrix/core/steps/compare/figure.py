"""What is compared, to be drawn: means of groups, cases before and after, or points with their line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.differences import Line, line_through
from lomrix.core.arrays.statistics import Values
from lomrix.core.rows.course import MOST_LINES, Average, Course, Courses
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.table.table import Table

MOST_POINTS = 5000


@dataclass(frozen=True)
class Cloud:
    """Points of one group, with their line.

    Parameters
    ----------
    name
        The group; empty where all are one.
    x, y
        Some of the points.
    line
        The line through all of them.
    """

    name: str
    x: npt.NDArray[np.float64]
    y: npt.NDArray[np.float64]
    line: Line


@dataclass(frozen=True)
class Clouds:
    """Measures against another one.

    Parameters
    ----------
    against
        What is along the axis, in words.
    by
        What sets the groups apart, in words.
    measures
        For each measure its name in words and its clouds.
    """

    against: str
    by: str
    measures: tuple[tuple[str, tuple[Cloud, ...]], ...]

    @property
    def is_empty(self) -> bool:
        """True where there is nothing to draw."""
        return not self.measures


def drawn(step: Compare, table: Table, sides: Sides, measures: list[str]) -> Courses | Clouds:
    """What is drawn of a comparison; codes are not."""
    numbers = [name for name in measures if table[name].type in NUMERIC]
    if step.against:
        found = tuple((words(table, name), clouds(step, table, sides, name)) for name in numbers)
        return Clouds(words(table, step.against), words(table, step.between) if step.between else "", found)
    uncoded = [name for name in numbers if step.as_numbers or not table.dictionary.labels_of(name)]
    case = ", ".join(step.paired_on) or step.between
    return Courses((case,), tuple(course(step, table, sides, name) for name in uncoded), ())


def words(table: Table, name: str) -> str:
    """A column's label and unit, else its name."""
    entry = table.dictionary.of(name)
    return (entry.label or name) + (f" ({entry.unit})" if entry.unit else "")


def course(step: Compare, table: Table, sides: Sides, name: str) -> Course:
    """Means of the sides, and where rows are paired a line for each case."""
    column, codes, count = table[name], sides.groups.codes, sides.groups.count
    rows = np.flatnonzero((codes >= 0) & ~column.is_missing)
    values = column.values.astype(np.float64)
    lines, pairs = np.zeros((0, count)), 0
    if step.paired_on:
        of_case = sides.row_of
        lines = np.where((of_case >= 0) & ~column.is_missing[of_case], values[of_case], np.nan)
        whole = np.flatnonzero(~np.isnan(lines).any(axis=1))
        pairs = len(whole)
        rows = of_case[whole].ravel() if count == 2 else rows
        few = np.unique(np.linspace(0, max(len(whole) - 1, 0), min(MOST_LINES, len(whole))).astype(np.int64))
        lines = lines[whole[few]]
    found = Values(codes[rows], values[rows], count)
    mean, half = found.mean, found.half_interval
    average = Average("", np.arange(count), found.sizes, mean, mean - half, mean + half)
    entry, key = table.dictionary.of(name), sides.groups.values[step.between]
    ticks = tuple(key.cells()) if not table.dictionary.labels_of(step.between) else tuple(sides.texts)
    return Course(
        name, entry.label, entry.unit, ticks, table.dictionary.of(step.between).label or step.between, (average,),
        (lines,), pairs if step.paired_on else len(rows), "", bool(step.paired_on) or key.type != "string",
    )  # fmt: skip


def clouds(step: Compare, table: Table, sides: Sides, name: str) -> tuple[Cloud, ...]:
    """The points of each side."""
    column, other = table[name], table[step.against]
    there = ~(column.is_missing | other.is_missing)
    x, y = other.values.astype(np.float64), column.values.astype(np.float64)
    found = []
    for at, text in enumerate(sides.texts):
        rows = np.flatnonzero(there & (sides.groups.codes == at))
        some = rows[:: max(1, -(-len(rows) // MOST_POINTS))]
        found.append(Cloud(text if step.between else "", x[some], y[some], line_through(x[rows], y[rows])))
    return tuple(found)
