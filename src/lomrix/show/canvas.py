"""What figures are drawn on: shared colours, no window, and the same bytes for the same content."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import Any

# Distinguishable in print and for readers with red-green colour blindness.
COLOURS = ("#2a5d84", "#d9822b", "#6b9a5b", "#a34f6d", "#7a6ba8", "#8a8a8a", "#c9b037", "#3f8f8b")
GREY = "#555555"
MAX_TICK, MAX_TEXT = 28, 90


def make_figure(width: float, height: float) -> Any:
    """Make an empty figure with a size in inches, without pyplot, which would keep it open."""
    from matplotlib import rcParams
    from matplotlib.figure import Figure

    # A label such as $0-$9 is not a formula.
    rcParams["text.parse_math"] = False
    return Figure(figsize=(width, height), layout="constrained")


def save_figure(figure: Any, path: Path, format_: str) -> None:
    """Write a figure without the time of drawing and without random ids."""
    from matplotlib import rc_context

    shorten_texts(figure)
    variable_key = {"png": "Software", "svg": "Date", "pdf": "CreationDate"}[format_]
    with rc_context({"svg.hashsalt": "lomrix"}), warnings.catch_warnings():
        # Characters that no font has are shown as boxes.
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(path, format=format_, dpi=140, metadata={variable_key: None})


def shorten_texts(figure: Any) -> None:
    """Shorten labels that would leave no room for the drawing."""
    from matplotlib.text import Text

    for text in figure.findobj(Text):
        text.set_text(shorten(text.get_text(), MAX_TEXT))


def shorten(text: str, length: int = MAX_TICK) -> str:
    """Shorten a text, marking where it was cut."""
    return text if len(text) <= length else text[: length - 1] + "…"


def set_ticks(axes: Any, positions: Sequence[float], texts: Sequence[str], room: int, most: int = 1000) -> None:
    """Write texts below an axis, at most so many of them; slanted if they have more characters than there is room."""
    step = -(-len(texts) // most) or 1
    shown = [shorten(text) for text in texts[::step]]
    slant: dict[str, Any] = {"rotation": 40, "ha": "right"} if sum(map(len, shown)) > room else {}
    axes.set_xticks(positions[::step], shown, **slant)


def add_caption(figure: Any, text: str) -> None:
    """Write a small caption above the figure."""
    figure.suptitle(text, fontsize=9, x=0.01, ha="left", color=GREY)
