"""Figures of a comparison: group means, cases before and after, or points with their line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.differences import RegressionLine, fit_line
from lomrix.core.rows.course import MOST_LINES, Average, Course, Courses
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.compare.sides import Sides
from lomrix.core.steps.compare.survey import Choice, Pairing
from lomrix.core.table.table import Table

MOST_POINTS = 5000


@dataclass(frozen=True)
class PointGroup:
    """Points of one group (some of them), with the line fitted to all; the name is empty if there is one group."""

    name: str
    x: npt.NDArray[np.float64]
    y: npt.NDArray[np.float64]
    line: RegressionLine


@dataclass(frozen=True)
class Scatter:
    """Measures against another one."""

    against: str  # what is along the axis, in words
    by: str  # what sets the groups apart, in words
    measures: tuple[tuple[str, tuple[PointGroup, ...]], ...]  # for each measure its name in words and its clouds

    @property
    def is_empty(self) -> bool:
        """True if there is nothing to draw."""
        return not self.measures


def make_figure(choice: Choice, sides: Sides, averages: Mapping[str, Average]) -> Courses | Scatter:
    """Return the figure of a comparison, given the means of each measure that is drawn."""
    step, table = choice.step, choice.table
    if step.against:
        numbers = [name for name in choice.measures if table[name].type in NUMERIC]
        clouds = tuple((format_axis(table, name), make_point_groups(choice, sides, name)) for name in numbers)
        between = format_axis(table, step.between) if step.between else ""
        return Scatter(format_axis(table, step.against), between, clouds)
    case = ", ".join(step.paired_on) or step.between
    return Courses((case,), tuple(make_course(choice, sides, name, average) for name, average in averages.items()), ())


def format_axis(table: Table, name: str) -> str:
    """Return a column's label and unit, else its name."""
    entry = table.dictionary.of(name)
    return (entry.label or name) + (f" ({entry.unit})" if entry.unit else "")


def make_course(choice: Choice, sides: Sides, name: str, average: Average) -> Course:
    """Return the means of the sides, and a line for each case if rows are paired."""
    step, table = choice.step, choice.table
    lines, count = np.zeros((0, len(sides.texts))), int(average.count.sum())
    if step.paired_on:
        pairing = Pairing(choice)
        lines = pairing.align(table[name])[:, [pairing.sides.index(side) for side in sides.keys]]
        complete = np.flatnonzero(~np.isnan(lines).any(axis=1))
        count = len(complete)
        sampled = np.unique(np.linspace(0, max(count - 1, 0), min(MOST_LINES, count)).astype(np.int64))
        lines = lines[complete[sampled]]
    entry, labels = table.dictionary.of(name), table.dictionary.labels_of(step.between)
    ticks = tuple(sides.texts) if labels else tuple(sides.keys)
    return Course(
        name, entry.label, entry.unit, ticks, table.dictionary.of(step.between).label or step.between, (average,),
        (lines,), count, "", bool(step.paired_on) or sides.values.type != "string",
    )  # fmt: skip


def make_point_groups(choice: Choice, sides: Sides, name: str) -> tuple[PointGroup, ...]:
    """Return the points of each side."""
    column, other = choice.table[name], choice.table[choice.step.against]
    present, codes = ~(column.is_missing | other.is_missing), sides.encode(choice.table)
    x, y = other.values.astype(np.float64), column.values.astype(np.float64)
    result = []
    for index, text in enumerate(sides.texts):
        rows = np.flatnonzero(present & (codes == index))
        sample = rows[:: max(1, -(-len(rows) // MOST_POINTS))]
        line = fit_line(CrossProducts.of([x[rows], y[rows]]))
        result.append(PointGroup(text if choice.step.between else "", x[sample], y[sample], line))
    return tuple(result)
