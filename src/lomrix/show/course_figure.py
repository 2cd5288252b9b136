"""Figures of courses: thin lines for cases, a thick one for the mean."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.rows.course import Course
from lomrix.core.table.header import format_occasion
from lomrix.show.canvas import COLOURS, add_caption, make_figure, save_figure, set_ticks

MAX_FACETS = 12
MAX_TICKS = 12
THIN_COLOUR = "#9aa5ad"


def draw_courses(courses: Sequence[Course], case: str, path: Path, format_: str) -> None:
    """Draw measures over their occasions, one facet for each; at most 12 are drawn."""
    shown = courses[:MAX_FACETS]
    across = min(len(shown), 3 if len(shown) != 4 else 2)
    down = -(-len(shown) // across)
    figure = make_figure(max(4.2 * across, 6.4), 0.7 + 3.9 * down)
    facets = figure.subplots(down, across, squeeze=False)
    for number, axes in enumerate(facets.flat):
        if number < len(shown):
            draw_facet(axes, shown[number], is_last=number + 1 == len(shown))
        else:
            axes.set_visible(False)
    add_caption(figure, make_caption(courses, case))
    save_figure(figure, path, format_)


def make_caption(courses: Sequence[Course], case: str) -> str:
    """Explain the lines."""
    first = courses[0]
    lines = len(first.lines[0])
    if not lines:
        return f"group means with their 95 % intervals, by {case}"
    which = f"all {lines:,}" if lines == first.cases else f"{lines:,} of {first.cases:,}"
    not_drawn = f"; {len(courses) - MAX_FACETS} further measures are not drawn" if len(courses) > MAX_FACETS else ""
    return f"thin: {which} cases ({case}); thick: mean of all with its 95 % interval{not_drawn}"


def draw_facet(axes: Any, course: Course, *, is_last: bool = True) -> None:
    """Draw one measure; the legend is beside the last facet if there is no room in each."""
    x_positions = place_occasions(course.values)
    for number, (average, lines) in enumerate(zip(course.averages, course.lines, strict=True)):
        colour = COLOURS[number % len(COLOURS)]
        x = x_positions[average.places]
        if len(lines):
            thin = THIN_COLOUR if len(course.averages) == 1 else colour
            faint = 0.5 if len(lines) <= 40 else 0.32
            draw_thin_lines(axes, x, lines, color=thin, alpha=faint, zorder=1)
            axes.fill_between(x, average.low, average.high, color=colour, alpha=0.22, linewidth=0, zorder=2)
        elif len(course.averages) > 1:  # so that the intervals of several groups do not overlap
            x = x + (number - (len(course.averages) - 1) / 2) * 0.012 * (x_positions.max() - x_positions.min() or 1)
        # A label that begins with an underscore is left out of the legend: a group without any mean.
        label = "_" if np.isnan(average.mean).all() else average.series or "mean"
        width = 2.2 if len(course.averages) < 5 else 1.4
        joins = "-" if course.is_ordered else "none"
        marks = np.stack([average.mean - average.low, average.high - average.mean])
        axes.errorbar(
            x, average.mean, yerr=np.nan_to_num(marks), color=colour, linewidth=width, linestyle=joins, marker="o",
            markersize=4.5, capsize=3, elinewidth=1.2, zorder=3, label=label,
        )  # fmt: skip
    set_ticks(axes, x_positions.tolist(), list(map(format_occasion, course.values)), 40, MAX_TICKS)
    axes.set_xlabel(course.occasion)
    axes.set_ylabel(course.unit or (f"mean of {course.measure}" if not len(course.lines[0]) else ""))
    axes.set_title(course.label or course.measure, loc="left", fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)
    if len(course.averages) > 1 and (is_last or len(course.lines[0])):
        outside: dict[str, Any] = {} if len(course.lines[0]) else {"loc": "upper left", "bbox_to_anchor": (1.0, 1.0)}
        axes.legend(frameon=False, fontsize=8, title=course.by or None, **outside)


def draw_thin_lines(axes: Any, x: np.ndarray[Any, Any], lines: np.ndarray[Any, Any], **style: Any) -> None:
    """Draw the lines of all cases as one collection, which is much faster than a line each."""
    from matplotlib.collections import LineCollection

    points = np.stack([np.broadcast_to(x, lines.shape), lines], axis=2)
    axes.add_collection(LineCollection(list(points), linewidths=0.6, capstyle="projecting", **style))
    axes.plot(*points.reshape(-1, 2).T, linestyle="none", marker=".", markersize=1.6, **style)


def place_occasions(values: Sequence[Any]) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Place occasions: numbers and dates to scale, words at equal distances."""
    if all(isinstance(value, int | float) and not isinstance(value, bool) for value in values):
        return np.array(values, np.float64)
    if all(isinstance(value, datetime.date) for value in values):
        return np.array([datetime.datetime.fromisoformat(value.isoformat()).timestamp() for value in values])
    return np.arange(len(values), dtype=np.float64)
