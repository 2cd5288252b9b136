"""Figures of courses: thin lines for cases, a thick one for the mean, drawn without a window."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.rows.course import Course
from lomrix.core.table.header import occasion_text
from lomrix.show.canvas import COLOURS, blank, cut, save, say_above

MOST_FACETS = 12
MOST_TICKS = 12
THIN = "#9aa5ad"


def course_figure(courses: Sequence[Course], case: str, path: Path, format_: str) -> None:
    """Draw measures over their occasions, one facet for each.

    Parameters
    ----------
    courses
        What to draw; the first twelve are drawn.
    case
        What the cases are called, for the caption.
    path, format_
        Where to write, and as what.
    """
    shown = courses[:MOST_FACETS]
    across = min(len(shown), 3 if len(shown) != 4 else 2)
    down = -(-len(shown) // across)
    figure = blank(max(4.2 * across, 6.4), 0.7 + 3.9 * down)
    facets = figure.subplots(down, across, squeeze=False)
    for number, axes in enumerate(facets.flat):
        if number < len(shown):
            facet(axes, shown[number], is_last=number + 1 == len(shown))
        else:
            axes.set_visible(False)
    say_above(figure, caption(courses, case))
    save(figure, path, format_)


def caption(courses: Sequence[Course], case: str) -> str:
    """What the lines are."""
    first = courses[0]
    lines = len(first.lines[0])
    if not lines:
        return f"group means with their 95 % intervals, by {case}"
    which = f"all {lines:,}" if lines == first.cases else f"{lines:,} of {first.cases:,}"
    left = f"; {len(courses) - MOST_FACETS} further measures are not drawn" if len(courses) > MOST_FACETS else ""
    return f"thin: {which} cases ({case}); thick: mean of all with its 95 % interval{left}"


def facet(axes: Any, course: Course, *, is_last: bool = True) -> None:
    """One measure; what the colours mean stands beside the last one where it has no room in each."""
    where = positions(course.values)
    for number, (average, lines) in enumerate(zip(course.averages, course.lines, strict=True)):
        colour = COLOURS[number % len(COLOURS)]
        x = where[average.places]
        if len(lines):
            thin = THIN if len(course.averages) == 1 else colour
            faint = 0.5 if len(lines) <= 40 else 0.32
            thin_lines(axes, x, lines, color=thin, alpha=faint, zorder=1)
            axes.fill_between(x, average.low, average.high, color=colour, alpha=0.22, linewidth=0, zorder=2)
        elif len(course.averages) > 1:  # so that the intervals of several groups stand side by side
            x = x + (number - (len(course.averages) - 1) / 2) * 0.012 * (where.max() - where.min() or 1)
        # What begins with an underscore stays out of the legend: a group without any mean to be drawn.
        label = "_" if np.isnan(average.mean).all() else average.series or "mean"
        width = 2.2 if len(course.averages) < 5 else 1.4
        joins = "-" if course.is_ordered else "none"
        marks = np.stack([average.mean - average.low, average.high - average.mean])
        axes.errorbar(
            x, average.mean, yerr=np.nan_to_num(marks), color=colour, linewidth=width, linestyle=joins, marker="o",
            markersize=4.5, capsize=3, elinewidth=1.2, zorder=3, label=label,
        )  # fmt: skip
    ticks = range(0, len(where), -(-len(where) // MOST_TICKS))
    texts = [cut(occasion_text(course.values[at])) for at in ticks]
    turn: dict[str, Any] = {"rotation": 40, "ha": "right"} if sum(map(len, texts)) > 40 else {}
    axes.set_xticks([where[at] for at in ticks], texts, **turn)
    axes.set_xlabel(course.occasion)
    axes.set_ylabel(course.unit or (f"mean of {course.measure}" if not len(course.lines[0]) else ""))
    axes.set_title(course.label or course.measure, loc="left", fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)
    if len(course.averages) > 1 and (is_last or len(course.lines[0])):
        outside: dict[str, Any] = {} if len(course.lines[0]) else {"loc": "upper left", "bbox_to_anchor": (1.0, 1.0)}
        axes.legend(frameon=False, fontsize=8, title=course.by or None, **outside)


def thin_lines(axes: Any, x: np.ndarray[Any, Any], lines: np.ndarray[Any, Any], **looks: Any) -> None:
    """The lines of all cases as one thing, and so their points: a thing for each would take most of the time."""
    from matplotlib.collections import LineCollection

    points = np.stack([np.broadcast_to(x, lines.shape), lines], axis=2)
    axes.add_collection(LineCollection(list(points), linewidths=0.6, capstyle="projecting", **looks))
    axes.plot(*points.reshape(-1, 2).T, linestyle="none", marker=".", markersize=1.6, **looks)


def positions(values: Sequence[Any]) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Where occasions stand: numbers and dates at their true distances, words side by side."""
    if all(isinstance(value, int | float) and not isinstance(value, bool) for value in values):
        return np.array(values, np.float64)
    if all(isinstance(value, datetime.date) for value in values):
        return np.array([datetime.datetime.fromisoformat(value.isoformat()).timestamp() for value in values])
    return np.arange(len(values), dtype=np.float64)
