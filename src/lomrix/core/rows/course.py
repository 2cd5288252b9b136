"""Courses: a measure over the occasions, case by case and on average."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import Values
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion, told
from lomrix.core.table.table import Table

Numbers = npt.NDArray[np.float64]
MOST_LINES = 200
# The column that numbers rows where a wide table had no column for the case.
ROW_NUMBER = "row"


@dataclass(frozen=True)
class Average:
    """The mean of a measure over occasions.

    Parameters
    ----------
    series
        What sets its cases' occasions apart, where several columns name the occasion; empty where one does.
    places
        Where its occasions stand among all values of the last occasion column.
    count, mean, low, high
        For each of them number of values, mean, and the ends of its 95 % interval (NaN below two values).
    """

    series: str
    places: npt.NDArray[np.int64]
    count: npt.NDArray[np.int64]
    mean: Numbers
    low: Numbers
    high: Numbers


@dataclass(frozen=True)
class Course:
    """A measure over the occasions.

    Parameters
    ----------
    measure, label, unit
        Its name and what the dictionary says of it.
    values
        All values of the last occasion column in order, which the averages' places count.
    occasion
        Name of that column.
    averages
        One for each series.
    lines
        For some cases and each series an array of shape (cases, its occasions); NaN where nothing was measured.
    cases
        Number of cases, of which the lines are some.
    by
        What sets the series apart, in words.
    is_ordered
        Whether the values of the occasion come one after another, so that a line may join their means.
    """

    measure: str
    label: str
    unit: str
    values: tuple[Any, ...]
    occasion: str
    averages: tuple[Average, ...]
    lines: tuple[Numbers, ...]
    cases: int
    by: str = ""
    is_ordered: bool = True


@dataclass(frozen=True)
class Courses:
    """All measures of a long table over its occasions.

    Parameters
    ----------
    case
        The columns that name the case.
    drawn
        The courses of measures that are numbers.
    left
        Measures that are no numbers.
    """

    case: tuple[str, ...]
    drawn: tuple[Course, ...]
    left: tuple[str, ...]

    @property
    def is_empty(self) -> bool:
        """True where no measure is a number."""
        return not self.drawn

    @classmethod
    def of(cls, long: Table) -> Courses:
        """The courses of a table that was made long, which remembers its measures."""
        memory = long.dictionary.other_layout
        if memory is None:
            return cls((), (), ())
        measures = list(dict.fromkeys(one.measure for one in memory.places))
        case = memory.case or (ROW_NUMBER,)
        found = courses(long, case, memory.occasions, measures)
        drawn = [course.measure for course in found]
        return cls(case, tuple(found), tuple(name for name in measures if name not in drawn))


def courses(
    table: Table, case: tuple[str, ...], occasions: tuple[str, ...], measures: list[str], most_lines: int = MOST_LINES
) -> list[Course]:
    """The course of each measure that is a number.

    Parameters
    ----------
    table
        A long table.
    case, occasions
        The columns that name case and occasion.
    measures
        The measures; those that are no numbers are passed over.
    most_lines
        Lines for so many cases at most; where there are more, cases at even distances are taken.

    References
    ----------
    The interval is that of Student, "The probable error of a mean", Biometrika 6 (1908), 1-25: the mean plus and
    minus the 0.975 quantile of his distribution with n - 1 degrees of freedom times sd / sqrt(n).
    """
    named = np.ones(len(table), np.bool_)
    for name in case:
        named &= ~table[name].is_missing
    table = table if named.all() else table.take(np.flatnonzero(named))
    place = Grid(table, case, occasions)
    if not len(table):
        return []
    numbers = [name for name in measures if table[name].type in ("integer", "number", "boolean")]
    chosen = np.unique(np.linspace(0, len(place.cases) - 1, min(most_lines, len(place.cases))).astype(np.int64))
    return [_course(table, place, name, chosen) for name in numbers]


def _course(table: Table, place: Grid, measure: str, chosen: npt.NDArray[np.int64]) -> Course:
    column, entry = table[measure], table.dictionary.of(measure)
    labels = {name: table.dictionary.labels_of(name) for name in place.names}
    rows = np.flatnonzero(~column.is_missing)
    values = column.values[rows].astype(np.float64)
    grid = np.full(place.size, np.nan)
    grid[place.cells[rows]] = values
    grid = grid.reshape(len(place.cases), place.times)[chosen]
    codes = place.cells[rows] % place.times
    measured = Values(codes, values, place.times)
    count, middle, half = measured.sizes, measured.mean, measured.half_interval
    distinct = tuple(dict.fromkeys(occasion[-1] for occasion in place.occasions))
    averages, lines = [], []
    for series, at in _series(place.occasions).items():
        places = np.array([distinct.index(place.occasions[one][-1]) for one in at])
        words = told(place.names[:-1], series, labels)
        averages.append(Average(words, places, count[at], middle[at], middle[at] - half[at], middle[at] + half[at]))
        lines.append(grid[:, at])
    name = place.names[-1]
    return Course(measure, entry.label, entry.unit, distinct, name, tuple(averages), tuple(lines), len(place.cases))


def _series(occasions: tuple[Occasion, ...]) -> dict[Occasion, list[int]]:
    """Places of the occasions that share all but their last value."""
    series: dict[Occasion, list[int]] = {}
    for at, occasion in enumerate(occasions):
        series.setdefault(occasion[:-1], []).append(at)
    return series
