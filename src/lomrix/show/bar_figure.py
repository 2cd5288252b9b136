"""Figures of counts as bars."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from lomrix.core.steps.tally.run import BarFigure
from lomrix.core.table.codes import CodeList
from lomrix.core.table.table import Table
from lomrix.show.canvas import COLOURS, make_figure, save_figure, set_ticks

WIDTH, HEIGHT = 9.0, 5.6


def draw_bars(figure_data: BarFigure, path: Path, format_: str) -> None:
    """Draw counts as bars."""
    counts = figure_data.counts
    names = [*figure_data.by, *figure_data.variables[1:]]
    bars = get_labels(counts, figure_data.variables[0])
    series = [" · ".join(parts) for parts in zip(*(get_labels(counts, name) for name in names), strict=True)] or [
        ""
    ] * len(bars)
    cells = counts["cells"].values
    categories = list(dict.fromkeys(bars))
    groups = list(dict.fromkeys(series))
    figure = make_figure(WIDTH, HEIGHT)
    axes = figure.subplots()
    width = 0.8 / max(len(groups), 1)
    for index, group in enumerate(groups):
        heights = np.zeros(len(categories))
        for bar, series_name, count in zip(bars, series, cells, strict=True):
            if series_name == group:
                heights[categories.index(bar)] += count
        positions = np.arange(len(categories)) + (index - (len(groups) - 1) / 2) * width
        drawn_bars = axes.bar(positions, heights, width * 0.94, color=COLOURS[index % len(COLOURS)], label=group)
        if len(categories) * len(groups) <= 24:
            axes.bar_label(drawn_bars, fmt="{:,.0f}", padding=2, fontsize=9)
    set_ticks(axes, range(len(categories)), categories, 70)
    axes.set_ylabel("rows")
    axes.set_title(figure_data.title, loc="left", fontsize=12)
    axes.spines[["top", "right"]].set_visible(False)
    if len(groups) > 1:
        axes.legend(title=", ".join(names), frameon=False, fontsize=9)
    save_figure(figure, path, format_)


def get_labels(table: Table, name: str) -> list[str]:
    """Return the cells of a column as labels if it has codes, else as text."""
    codes = CodeList(table.dictionary.labels_of(name))
    return ["—" if text is None else codes.label_of(text) or text for text in table[name].to_text().to_pylist()]
