"""Figures of one measure against another: points with their regression lines."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.steps.compare.figure import PointGroup, Scatter
from lomrix.show.canvas import COLOURS, make_figure, save_figure

MAX_FACETS = 12


def draw_scatter(scatter: Scatter, path: Path, format_: str) -> None:
    """Draw measures against another one, one facet for each; at most 12 are drawn."""
    shown = scatter.measures[:MAX_FACETS]
    across = min(len(shown), 3)
    down = -(-len(shown) // across)
    figure = make_figure(max(4.6 * across, 7.0), 0.5 + 4.2 * down)
    facets = figure.subplots(down, across, squeeze=False)
    for number, axes in enumerate(facets.flat):
        axes.set_visible(number < len(shown))
        if number < len(shown):
            draw_facet(axes, *shown[number], scatter.by)
            axes.set_xlabel(scatter.against)
    save_figure(figure, path, format_)


def draw_facet(axes: Any, title: str, groups: tuple[PointGroup, ...], by: str) -> None:
    """Draw one measure: the points of each group, and its line as far as the points reach."""
    for number, group in enumerate(groups):
        colour = COLOURS[number % len(COLOURS)]
        axes.plot(group.x, group.y, ".", color=colour, alpha=0.35, markersize=4, zorder=1)
        if len(group.x) and not np.isnan(group.line.slope):
            ends = np.array([group.x.min(), group.x.max()])
            axes.plot(
                ends, group.line.intercept + group.line.slope * ends, color=colour, linewidth=2.2, zorder=2,
                label=group.name,
            )  # fmt: skip
    axes.set_title(title, loc="left", fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)
    if any(group.name for group in groups):
        axes.legend(frameon=False, fontsize=8, title=by or None)
