"""Which figure belongs to what a step returns to be drawn."""

from __future__ import annotations

from pathlib import Path

from lomrix.core.rows.course import Courses
from lomrix.core.steps.compare.figure import Scatter
from lomrix.core.steps.coverage.retention import RetentionFigure
from lomrix.core.steps.coverage.run import PatternFigure
from lomrix.core.steps.tally.run import BarFigure
from lomrix.show.bar_figure import draw_bars
from lomrix.show.course_figure import draw_courses
from lomrix.show.coverage_figure import draw_coverage
from lomrix.show.retention_figure import draw_retention
from lomrix.show.scatter_figure import draw_scatter


def draw(content: object, path: Path, format_: str) -> None:
    """Draw something as `png`, `svg` or `pdf`."""
    if isinstance(content, BarFigure):
        draw_bars(content, path, format_)
    elif isinstance(content, Courses):
        draw_courses(content.drawn, ", ".join(content.case), path, format_)
    elif isinstance(content, PatternFigure):
        draw_coverage(content, path, format_)
    elif isinstance(content, RetentionFigure):
        draw_retention(content, path, format_)
    elif isinstance(content, Scatter):
        draw_scatter(content, path, format_)
    else:
        raise TypeError(f"{type(content).__name__} is not a figure")
