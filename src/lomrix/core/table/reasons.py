"""Reasons: why a cell is missing."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Why = npt.NDArray[np.uint8]

BLANK = "blank"
UNMATCHED = "unmatched"
NOT_IN_FILE = "not-in-file"
NO_OCCASION = "no-occasion"
NO_SPELL = "no-spell"
UNDEFINED = "undefined"
TOO_FEW = "too-few"
SUPPRESSED = "suppressed"

BUILT_IN = (BLANK, UNMATCHED, NOT_IN_FILE, NO_OCCASION, NO_SPELL, UNDEFINED, TOO_FEW, SUPPRESSED)

# A cell's reason is one byte; 0 stands for a present cell.
MOST_REASONS = 255


def join_reasons(*lists: tuple[str, ...]) -> tuple[str, ...]:
    """Return all reasons of several columns, each once, in order of first appearance."""
    return tuple(dict.fromkeys(reason for reasons in lists for reason in reasons))


def renumber_why(why: Why, old: tuple[str, ...], new: tuple[str, ...]) -> Why:
    """Renumber `why` from reasons `old` to reasons `new`, which include all of `old`."""
    if old == new[: len(old)]:
        return why
    numbers = np.zeros(len(old) + 1, dtype=np.uint8)
    numbers[1:] = [new.index(reason) + 1 for reason in old]
    return np.asarray(numbers[why])
