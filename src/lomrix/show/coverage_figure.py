"""Figures of coverage: patterns as bands whose height is their number of cases."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.steps.coverage.run import PatternFigure
from lomrix.show.canvas import COLOURS, add_caption, make_figure, save_figure, set_ticks

EMPTY = "#e4e8eb"
MAX_PATTERNS = 60
MAX_TICKS = 24
# A band of at least this share of the height has room for its number of cases.
LABEL_SHARE = 0.022


def draw_coverage(coverage: PatternFigure, path: Path, format_: str) -> None:
    """Draw who was seen when: cases at each occasion above, the patterns as bands below."""
    shares, counts = make_bands(coverage)
    total, times = int(counts.sum()), len(coverage.occasions)
    figure = make_figure(9.0, 7.2)
    above, below = figure.subplots(2, 1, sharex=True, height_ratios=(1, 3))
    index = np.arange(times)
    numbers = coverage.patterns.count_flows()["seen"]
    bars = above.bar(index, numbers, 0.9, color=COLOURS[0])
    if times <= MAX_TICKS:
        above.bar_label(bars, [f"{n:,}\n{100 * n / total:.0f} %" for n in numbers.tolist()], padding=2, fontsize=8)
    above.set_ylim(0, total * 1.35)
    above.set_ylabel("cases seen")
    above.spines[["top", "right"]].set_visible(False)
    draw_bands(below, shares, counts)
    set_ticks(below, index.tolist(), coverage.occasions, 90, MAX_TICKS)
    below.set_xlabel(coverage.title)
    below.set_ylabel(f"{total:,} cases, most frequent pattern at the top")
    add_caption(figure, "dark: seen, light: not seen; numbers of cases at the right")
    save_figure(figure, path, format_)


def make_bands(coverage: PatternFigure) -> tuple[Any, Any]:
    """Return the share of cases seen at each occasion and the number of cases, by band."""
    shares, counts = coverage.patterns.rows.astype(np.float64), coverage.patterns.counts
    if len(counts) <= MAX_PATTERNS:
        return shares, counts
    remaining = counts[MAX_PATTERNS:]
    mean = (shares[MAX_PATTERNS:] * remaining[:, None]).sum(axis=0) / remaining.sum()
    return np.vstack([shares[:MAX_PATTERNS], mean]), np.append(counts[:MAX_PATTERNS], remaining.sum())


def draw_bands(axes: Any, shares: Any, counts: Any) -> None:
    """Draw the bands from the top down, in proportion to their cases."""
    from matplotlib.colors import LinearSegmentedColormap

    colours = LinearSegmentedColormap.from_list("seen", [EMPTY, COLOURS[0]])
    total, times = counts.sum(), shares.shape[1]
    edges = np.concatenate([[0], np.cumsum(counts)])
    axes.pcolormesh(np.arange(times + 1) - 0.5, edges, shares, cmap=colours, vmin=0, vmax=1)
    axes.hlines(edges[1:-1], -0.5, times - 0.5, color="white", linewidth=0.8 if len(counts) < 30 else 0.3)
    axes.vlines(np.arange(1, times) - 0.5, 0, total, color="white", linewidth=1.2 if times < 40 else 0.2)
    for low, count in zip(edges[:-1].tolist(), counts.tolist(), strict=True):
        if count >= LABEL_SHARE * total:
            axes.text(times - 0.45, low + count / 2, f"{count:,}", va="center", fontsize=8)
    axes.set_ylim(total, 0)
    axes.set_xlim(-0.5, times - 0.5)
    axes.spines[["top", "right", "left", "bottom"]].set_visible(False)
