"""Figures of a comparison: group means, cases before and after, or points with their line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.differences import RegressionLine, fit_line
from lomrix.core.arrays.statistics import Values
from lomrix.core.rows.course import MOST_LINES, Average, Course, Courses
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.compare.adjusted import AdjustedComparison
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import Sides
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


def make_figure(
    step: Compare, table: Table, sides: Sides, measures: list[str], covariates: list[str]
) -> Courses | Scatter:
    """Return the figure of a comparison; codes are not drawn."""
    numbers = [name for name in measures if table[name].type in NUMERIC]
    if step.against:
        clouds_by_measure = tuple(
            (format_axis(table, name), make_point_groups(step, table, sides, name)) for name in numbers
        )
        return Scatter(
            format_axis(table, step.against),
            format_axis(table, step.between) if step.between else "",
            clouds_by_measure,
        )
    numeric = [name for name in numbers if step.as_numbers or not table.dictionary.labels_of(name)]
    case = ", ".join(step.paired_on) or step.between
    return Courses((case,), tuple(make_course(step, table, sides, name, covariates) for name in numeric), ())


def format_axis(table: Table, name: str) -> str:
    """Return a column's label and unit, else its name."""
    entry = table.dictionary.of(name)
    return (entry.label or name) + (f" ({entry.unit})" if entry.unit else "")


def make_course(step: Compare, table: Table, sides: Sides, name: str, covariates: list[str]) -> Course:
    """Return the means of the sides, adjusted if there are covariates, and a line for each case if rows are paired."""
    column, codes, count = table[name], sides.groups.codes, sides.groups.count
    rows = np.flatnonzero((codes >= 0) & ~column.is_missing)
    values = column.values.astype(np.float64)
    lines, pairs = np.zeros((0, count)), 0
    if step.paired_on:
        of_case = sides.row_of
        lines = np.where((of_case >= 0) & ~column.is_missing[of_case], values[of_case], np.nan)
        complete = np.flatnonzero(~np.isnan(lines).any(axis=1))
        pairs = len(complete)
        rows = of_case[complete].ravel() if count == 2 else rows
        sampled = np.unique(np.linspace(0, max(len(complete) - 1, 0), min(MOST_LINES, len(complete))).astype(np.int64))
        lines = lines[complete[sampled]]
    values_by_side = Values(codes[rows], values[rows], count)
    mean, half = values_by_side.mean, values_by_side.half_interval
    low, high = mean - half, mean + half
    adjusted = AdjustedComparison(table, sides, name, column, covariates, name)
    if covariates and adjusted.is_possible:
        mean, low, high = np.array(adjusted.compute_means()).T
    average = Average("", np.arange(count), values_by_side.sizes, mean, low, high)
    entry, key = table.dictionary.of(name), sides.groups.values[step.between]
    ticks = tuple(key.cells()) if not table.dictionary.labels_of(step.between) else tuple(sides.texts)
    return Course(
        name, entry.label, entry.unit, ticks, table.dictionary.of(step.between).label or step.between, (average,),
        (lines,), pairs if step.paired_on else len(rows), "", bool(step.paired_on) or key.type != "string",
    )  # fmt: skip


def make_point_groups(step: Compare, table: Table, sides: Sides, name: str) -> tuple[PointGroup, ...]:
    """Return the points of each side."""
    column, other = table[name], table[step.against]
    present = ~(column.is_missing | other.is_missing)
    x, y = other.values.astype(np.float64), column.values.astype(np.float64)
    result = []
    for index, text in enumerate(sides.texts):
        rows = np.flatnonzero(present & (sides.groups.codes == index))
        sample = rows[:: max(1, -(-len(rows) // MOST_POINTS))]
        result.append(PointGroup(text if step.between else "", x[sample], y[sample], fit_line(x[rows], y[rows])))
    return tuple(result)
