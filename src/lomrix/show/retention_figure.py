"""Figures of retention: a line for each group, from 100 % at the first occasion on."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from lomrix.core.steps.coverage.retention import RetentionFigure
from lomrix.show.canvas import COLOURS, add_caption, make_figure, save_figure, set_ticks, shorten
from lomrix.show.course_figure import MAX_TICKS, place_occasions

MAX_GROUPS = 12


def draw_retention(retention: RetentionFigure, path: Path, format_: str) -> None:
    """Draw the percentage of the first occasion's cases that was seen at each occasion, by group."""
    figure = make_figure(9.0, 5.6)
    axes = figure.subplots()
    positions = place_occasions(retention.values)
    for index, (group, shares) in enumerate(zip(retention.groups[:MAX_GROUPS], retention.shares, strict=False)):
        colour, style = COLOURS[index % len(COLOURS)], "-" if index < len(COLOURS) else "--"
        label = f"{shorten(group)} (suppressed)" if np.isnan(shares).all() else shorten(group)
        axes.plot(positions, shares, style, color=colour, marker="o", markersize=5, linewidth=2, label=label)
    set_ticks(axes, positions.tolist(), retention.texts, 70, MAX_TICKS)
    axes.set_ylim(0, 104)
    axes.set_xlabel(retention.occasion)
    axes.set_ylabel(f"% of the cases seen at {retention.occasion} {retention.texts[0]}")
    axes.grid(axis="y", alpha=0.3)
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(title=retention.by, frameon=False, fontsize=9, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    more = len(retention.groups) - MAX_GROUPS
    add_caption(figure, "who stayed" + (f"; {more} further groups are not drawn" if more > 0 else ""))
    save_figure(figure, path, format_)
