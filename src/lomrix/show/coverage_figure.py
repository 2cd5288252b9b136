"""Figures of coverage: patterns as bands whose height is their number of cases, drawn without a window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.steps.coverage.run import Seen
from lomrix.show.canvas import COLOURS, blank, cut, save, say_above

EMPTY = "#e4e8eb"
MOST_PATTERNS = 60
MOST_TICKS = 24
# A band of at least this share of the height has room for its number.
ROOM = 0.022


def coverage_figure(seen: Seen, path: Path, format_: str) -> None:
    """Draw who was seen when: cases at each occasion above, and below it the patterns as bands.

    Parameters
    ----------
    seen
        What to draw; patterns beyond the sixtieth stand together as one band of their mean.
    path, format_
        Where to write, and as what.
    """
    shares, counts = bands(seen)
    total, times = int(counts.sum()), len(seen.occasions)
    figure = blank(9.0, 7.2)
    above, below = figure.subplots(2, 1, sharex=True, height_ratios=(1, 3))
    at = np.arange(times)
    numbers = (seen.patterns * seen.counts[:, None]).sum(axis=0)
    bars = above.bar(at, numbers, 0.9, color=COLOURS[0])
    if times <= MOST_TICKS:
        above.bar_label(bars, [f"{n:,}\n{100 * n / total:.0f} %" for n in numbers.tolist()], padding=2, fontsize=8)
    above.set_ylim(0, total * 1.35)
    above.set_ylabel("cases seen")
    above.spines[["top", "right"]].set_visible(False)
    draw_bands(below, shares, counts)
    step = -(-times // MOST_TICKS)
    below.set_xticks(at[::step], list(map(cut, seen.occasions[::step])))
    below.set_xlabel(seen.title)
    below.set_ylabel(f"{total:,} cases, the commonest pattern on top")
    say_above(figure, "dark: seen, light: not; the number of cases stands beside a pattern")
    save(figure, path, format_)


def bands(seen: Seen) -> tuple[Any, Any]:
    """For each band the share of its cases seen at each occasion, and their number."""
    shares, counts = seen.patterns.astype(np.float64), seen.counts
    if len(counts) <= MOST_PATTERNS:
        return shares, counts
    rest = counts[MOST_PATTERNS:]
    mean = (shares[MOST_PATTERNS:] * rest[:, None]).sum(axis=0) / rest.sum()
    return np.vstack([shares[:MOST_PATTERNS], mean]), np.append(counts[:MOST_PATTERNS], rest.sum())


def draw_bands(axes: Any, shares: Any, counts: Any) -> None:
    """The bands from the top down, as high as they have cases."""
    from matplotlib.colors import LinearSegmentedColormap

    colours = LinearSegmentedColormap.from_list("seen", [EMPTY, COLOURS[0]])
    total, times = counts.sum(), shares.shape[1]
    edges = np.concatenate([[0], np.cumsum(counts)])
    axes.pcolormesh(np.arange(times + 1) - 0.5, edges, shares, cmap=colours, vmin=0, vmax=1)
    axes.hlines(edges[1:-1], -0.5, times - 0.5, color="white", linewidth=0.8 if len(counts) < 30 else 0.3)
    axes.vlines(np.arange(1, times) - 0.5, 0, total, color="white", linewidth=1.2 if times < 40 else 0.2)
    for low, count in zip(edges[:-1].tolist(), counts.tolist(), strict=True):
        if count >= ROOM * total:
            axes.text(times - 0.45, low + count / 2, f"{count:,}", va="center", fontsize=8)
    axes.set_ylim(total, 0)
    axes.set_xlim(-0.5, times - 0.5)
    axes.spines[["top", "right", "left", "bottom"]].set_visible(False)
