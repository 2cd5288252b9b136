"""Labels on the way between wide and long: what a family has in common, and what tells its columns apart."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from lomrix.core.rows.occasions import Occasion
from lomrix.core.table.header import occasion_text

# Words that only announce an occasion, and say nothing of the measure.
ANNOUNCING = {"month", "wave", "visit", "year", "day", "week", "time", "phase", "occasion", "baseline"}
JOINING = {"at", "in", "on", "of", "after", "before", "for", "during", "the"}
EDGES = " ,;:-–([)]"


def common_label(labels: Sequence[str], occasions: Sequence[str] = ()) -> str:
    """What labels have in common: "Sleep, month 3" and "Sleep, month 12" give "Sleep".

    Parameters
    ----------
    labels
        Labels of a family's columns; empty ones do not count.
    occasions
        Names of the occasion columns, which say nothing of the measure either.
    """
    filled = [label for label in labels if label]
    if not filled or len(set(filled)) == 1:
        return filled[0] if filled else ""
    words = [re.findall(r"\s*\S+", label) for label in filled]
    before = _shared(words)
    after = [word[::-1] for word in _shared([[word[::-1] for word in one[::-1]] for one in words])][::-1]
    silent = ANNOUNCING | JOINING | {name.lower() for name in occasions}
    head, tail = _trimmed(before, silent), _trimmed(after, silent)
    if any(_bare(word) not in silent for word in before):
        return head
    return tail or head or filled[0]


def _shared(words: Sequence[Sequence[str]]) -> list[str]:
    """The words that all begin with."""
    shared = []
    for same in zip(*words, strict=False):
        if len(set(same)) > 1:
            break
        shared.append(same[0])
    return shared


def _trimmed(words: Sequence[str], silent: set[str]) -> str:
    kept = list(words)
    while kept and _bare(kept[-1]) in silent:
        kept.pop()
    while kept and _bare(kept[0]) in silent:
        kept.pop(0)
    return "".join(kept).strip(EDGES)


def _bare(word: str) -> str:
    return word.strip(EDGES).lower()


def label_at(
    label: str, names: Sequence[str], occasion: Occasion, labels: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """The label of a measure at an occasion: "Sleep minutes, month 3".

    Parameters
    ----------
    label
        The measure's label; nothing is made of an empty one.
    names
        The occasion columns.
    occasion
        One value for each.
    labels
        By occasion column the labels of its codes, which then stand in place of name and value.
    """
    if not label:
        return ""
    parts = []
    for name, value in zip(names, occasion, strict=True):
        text = occasion_text(value)
        parts.append((labels or {}).get(name, {}).get(text) or f"{name} {text}")
    return ", ".join([label, *parts])
