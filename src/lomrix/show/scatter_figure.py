"""Figures of one measure against another: points with the line through them, drawn without a window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.steps.compare.figure import Cloud, Clouds
from lomrix.show.canvas import COLOURS, blank, save

MOST_FACETS = 12


def scatter_figure(clouds: Clouds, path: Path, format_: str) -> None:
    """Draw measures against another one, one facet for each.

    Parameters
    ----------
    clouds
        What to draw; the first twelve measures are drawn.
    path, format_
        Where to write, and as what.
    """
    shown = clouds.measures[:MOST_FACETS]
    across = min(len(shown), 3)
    down = -(-len(shown) // across)
    figure = blank(max(4.6 * across, 7.0), 0.5 + 4.2 * down)
    facets = figure.subplots(down, across, squeeze=False)
    for number, axes in enumerate(facets.flat):
        axes.set_visible(number < len(shown))
        if number < len(shown):
            facet(axes, *shown[number], clouds.by)
            axes.set_xlabel(clouds.against)
    save(figure, path, format_)


def facet(axes: Any, title: str, clouds: tuple[Cloud, ...], by: str) -> None:
    """One measure: the points of each group, and its line as far as the points reach."""
    for number, cloud in enumerate(clouds):
        colour = COLOURS[number % len(COLOURS)]
        axes.plot(cloud.x, cloud.y, ".", color=colour, alpha=0.35, markersize=4, zorder=1)
        if len(cloud.x) and not np.isnan(cloud.line.slope):
            ends = np.array([cloud.x.min(), cloud.x.max()])
            axes.plot(
                ends, cloud.line.intercept + cloud.line.slope * ends, color=colour, linewidth=2.2, zorder=2,
                label=cloud.name,
            )  # fmt: skip
    axes.set_title(title, loc="left", fontsize=11)
    axes.spines[["top", "right"]].set_visible(False)
    if any(cloud.name for cloud in clouds):
        axes.legend(frameon=False, fontsize=8, title=by or None)
