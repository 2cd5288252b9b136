"""Figures: counts as bars, drawn without a window."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from lomrix.core.steps.tally.run import Bars
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.table import Table
from lomrix.show.canvas import COLOURS, blank, cut, save

WIDTH, HEIGHT = 9.0, 5.6


def bar_figure(bars_of: Bars, path: Path, format_: str) -> None:
    """Draw counts as bars.

    Parameters
    ----------
    bars_of
        The counts, and what was counted.
    path, format_
        Where to write, and as what.
    """
    counts = bars_of.counts
    names = [*bars_of.by, *bars_of.variables[1:]]
    bars = labelled(counts, bars_of.variables[0])
    series = [" · ".join(parts) for parts in zip(*(labelled(counts, name) for name in names), strict=True)] or [
        ""
    ] * len(bars)
    cells = counts["cells"].values
    places = list(dict.fromkeys(bars))
    groups = list(dict.fromkeys(series))
    figure = blank(WIDTH, HEIGHT)
    axes = figure.subplots()
    width = 0.8 / max(len(groups), 1)
    for at, group in enumerate(groups):
        heights = np.zeros(len(places))
        for bar, own, count in zip(bars, series, cells, strict=True):
            if own == group:
                heights[places.index(bar)] += count
        where = np.arange(len(places)) + (at - (len(groups) - 1) / 2) * width
        drawn = axes.bar(where, heights, width * 0.94, color=COLOURS[at % len(COLOURS)], label=group)
        if len(places) * len(groups) <= 24:
            axes.bar_label(drawn, fmt="{:,.0f}", padding=2, fontsize=9)
    axes.set_xticks(
        np.arange(len(places)),
        [cut(place) for place in places],
        rotation=0 if sum(map(len, places)) < 70 else 40,
        ha="center" if sum(map(len, places)) < 70 else "right",
    )
    axes.set_ylabel("rows")
    axes.set_title(bars_of.title, loc="left", fontsize=12)
    axes.spines[["top", "right"]].set_visible(False)
    if len(groups) > 1:
        axes.legend(title=", ".join(names), frameon=False, fontsize=9)
    save(figure, path, format_)


def labelled(table: Table, name: str) -> list[str]:
    """The cells of a column as labels where it has codes, else as text."""
    codes = CodeList(table.dictionary.labels_of(name))
    return ["—" if text is None else codes.label_of(text) or text for text in table[name].to_text().to_pylist()]
