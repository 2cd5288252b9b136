"""What figures are drawn on: the same colours, no window, and the same bytes for the same content."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

# Calm colours that stay apart for readers who do not see red and green apart, and in print.
COLOURS = ("#2a5d84", "#d9822b", "#6b9a5b", "#a34f6d", "#7a6ba8", "#8a8a8a", "#c9b037", "#3f8f8b")
GREY = "#555555"
LONGEST_TICK, LONGEST_TEXT = 28, 90


def blank(width: float, height: float) -> Any:
    """An empty figure of so many inches.

    It is no figure of Matplotlib's pyplot, which would look for a window and keep each one it made.
    """
    from matplotlib import rcParams
    from matplotlib.figure import Figure

    # A label such as $0-$9 is no formula.
    rcParams["text.parse_math"] = False
    return Figure(figsize=(width, height), layout="constrained")


def save(figure: Any, path: Path, format_: str) -> None:
    """Write a figure, without the moment of drawing and without names made by chance."""
    from matplotlib import rc_context

    cut_long_texts(figure)
    moment = {"png": "Software", "svg": "Date", "pdf": "CreationDate"}[format_]
    with rc_context({"svg.hashsalt": "lomrix"}), warnings.catch_warnings():
        # Letters that no font has are shown as boxes.
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(path, format=format_, dpi=140, metadata={moment: None})


def cut_long_texts(figure: Any) -> None:
    """Cut labels that would leave no room for what is drawn; the table has them whole."""
    from matplotlib.text import Text

    for text in figure.findobj(Text):
        text.set_text(cut(text.get_text(), LONGEST_TEXT))


def cut(text: str, longest: int = LONGEST_TICK) -> str:
    """A text of so many signs at most, its end marked where it was cut."""
    return text if len(text) <= longest else text[: longest - 1] + "…"


def say_above(figure: Any, text: str) -> None:
    """Write what the figure shows above it, small and at the left."""
    figure.suptitle(text, fontsize=9, x=0.01, ha="left", color=GREY)
