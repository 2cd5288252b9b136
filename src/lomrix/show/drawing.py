"""Drawing: which figure belongs to what a step gives to be drawn."""

from __future__ import annotations

from pathlib import Path

from lomrix.core.rows.course import Courses
from lomrix.core.steps.compare.figure import Clouds
from lomrix.core.steps.coverage.run import Seen
from lomrix.core.steps.tally.run import Bars
from lomrix.show.bar_figure import bar_figure
from lomrix.show.course_figure import course_figure
from lomrix.show.coverage_figure import coverage_figure
from lomrix.show.scatter_figure import scatter_figure


def draw(content: object, path: Path, format_: str) -> None:
    """Draw something.

    Parameters
    ----------
    content
        What a step gave to be drawn.
    path, format_
        Where to write, and as what: `png`, `svg` or `pdf`.
    """
    if isinstance(content, Bars):
        bar_figure(content, path, format_)
    elif isinstance(content, Courses):
        course_figure(content.drawn, ", ".join(content.case), path, format_)
    elif isinstance(content, Seen):
        coverage_figure(content, path, format_)
    elif isinstance(content, Clouds):
        scatter_figure(content, path, format_)
    else:
        raise TypeError(f"{type(content).__name__} is no figure")
