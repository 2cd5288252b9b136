"""Courses: a measure over the occasions, case by case and on average."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import Values
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion, format_occasion_pair
from lomrix.core.table.table import Table

Numbers = npt.NDArray[np.float64]
MOST_LINES = 200
# The column that numbers rows where a wide table had no column for the case.
ROW_NUMBER = "row"


@dataclass(frozen=True)
class Average:
    """The mean of a measure over occasions.

    `series` names the other occasion columns' values if several columns name the occasion; `places` are positions among
    all values of the last occasion column; for each of them the number of values, mean, and ends of its 95 % interval
    (NaN below two values).
    """

    series: str
    places: npt.NDArray[np.int64]
    count: npt.NDArray[np.int64]
    mean: Numbers
    low: Numbers
    high: Numbers


@dataclass(frozen=True)
class Course:
    """A measure over the occasions."""

    measure: str  # its name and what the dictionary says of it
    label: str
    unit: str
    values: tuple[Any, ...]  # all values of the last occasion column in order, which the averages' places count
    occasion: str  # name of that column
    averages: tuple[Average, ...]  # one for each series
    # for some cases and each series an array of shape (cases, its occasions); NaN where nothing was measured
    lines: tuple[Numbers, ...]
    cases: int  # number of cases, of which the lines are some
    by: str = ""  # what sets the series apart, in words
    # whether the values of the occasion come one after another, so that a line may join their means
    is_ordered: bool = True


@dataclass(frozen=True)
class Courses:
    """The courses of all measures of a long table; `left` are the measures that are not numeric."""

    case: tuple[str, ...]
    drawn: tuple[Course, ...]
    left: tuple[str, ...]

    @property
    def is_empty(self) -> bool:
        """True if no measure is numeric."""
        return not self.drawn

    @classmethod
    def from_long(cls, long: Table) -> Courses:
        """Return the courses of a table that was reshaped to long, which records its measures."""
        memory = long.dictionary.other_layout
        if memory is None:
            return cls((), (), ())
        measures = list(dict.fromkeys(position.measure for position in memory.places))
        case = memory.case or (ROW_NUMBER,)
        courses_found = compute_courses(long, case, memory.occasions, measures)
        drawn = [course.measure for course in courses_found]
        return cls(case, tuple(courses_found), tuple(name for name in measures if name not in drawn))


def compute_courses(
    table: Table, case: tuple[str, ...], occasions: tuple[str, ...], measures: list[str], most_lines: int = MOST_LINES
) -> list[Course]:
    """Compute the course of each numeric measure of a long table, with lines for at most `most_lines` cases, evenly
    spaced.

    References
    ----------
    The interval is that of Student, "The probable error of a mean", Biometrika 6 (1908), 1-25: the mean plus and
    minus the 0.975 quantile of his distribution with n - 1 degrees of freedom times sd / sqrt(n).
    """
    named = np.ones(len(table), np.bool_)
    for name in case:
        named &= ~table[name].is_missing
    table = table if named.all() else table.take(np.flatnonzero(named))
    grid = Grid(table, case, occasions)
    if not len(table):
        return []
    numbers = [name for name in measures if table[name].type in ("integer", "number", "boolean")]
    chosen = np.unique(np.linspace(0, len(grid.cases) - 1, min(most_lines, len(grid.cases))).astype(np.int64))
    return [_compute_course(table, grid, name, chosen) for name in numbers]


def _compute_course(table: Table, grid_of_table: Grid, measure: str, chosen: npt.NDArray[np.int64]) -> Course:
    column, entry = table[measure], table.dictionary.of(measure)
    labels = {name: table.dictionary.labels_of(name) for name in grid_of_table.names}
    rows = np.flatnonzero(~column.is_missing)
    values = column.values[rows].astype(np.float64)
    grid = np.full(grid_of_table.size, np.nan)
    grid[grid_of_table.cells[rows]] = values
    grid = grid.reshape(len(grid_of_table.cases), grid_of_table.times)[chosen]
    codes = grid_of_table.cells[rows] % grid_of_table.times
    measured = Values(codes, values, grid_of_table.times)
    count, middle, half = measured.sizes, measured.mean, measured.half_interval
    distinct = tuple(dict.fromkeys(occasion[-1] for occasion in grid_of_table.occasions))
    averages, lines = [], []
    for series, indexes in _split_series(grid_of_table.occasions).items():
        positions = np.array([distinct.index(grid_of_table.occasions[index][-1]) for index in indexes])
        series_name = format_occasion_pair(grid_of_table.names[:-1], series, labels)
        averages.append(
            Average(
                series_name,
                positions,
                count[indexes],
                middle[indexes],
                middle[indexes] - half[indexes],
                middle[indexes] + half[indexes],
            )
        )
        lines.append(grid[:, indexes])
    name = grid_of_table.names[-1]
    return Course(
        measure, entry.label, entry.unit, distinct, name, tuple(averages), tuple(lines), len(grid_of_table.cases)
    )


def _split_series(occasions: tuple[Occasion, ...]) -> dict[Occasion, list[int]]:
    """Return the positions of the occasions that share all but their last value."""
    series: dict[Occasion, list[int]] = {}
    for index, occasion in enumerate(occasions):
        series.setdefault(occasion[:-1], []).append(index)
    return series
