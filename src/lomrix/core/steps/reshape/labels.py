"""Labels in reshaping: what a family's labels have in common, and the label of a measure at an occasion."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from lomrix.core.rows.occasions import Occasion
from lomrix.core.table.header import format_occasion

# Words that only introduce an occasion.
OCCASION_WORDS = {"month", "wave", "visit", "year", "day", "week", "time", "phase", "occasion", "baseline"}
JOINING = {"at", "in", "on", "of", "after", "before", "for", "during", "the"}
EDGES = " ,;:-–([)]"


def find_common_label(labels: Sequence[str], occasions: Sequence[str] = ()) -> str:
    """Return what labels have in common:

    "Sleep, month 3" and "Sleep, month 12" give "Sleep". Empty labels and the names of occasion columns are ignored.
    """
    nonempty = [label for label in labels if label]
    if not nonempty or len(set(nonempty)) == 1:
        return nonempty[0] if nonempty else ""
    words = [re.findall(r"\s*\S+", label) for label in nonempty]
    before = _find_shared(words)
    after = [word[::-1] for word in _find_shared([[word[::-1] for word in parts[::-1]] for parts in words])][::-1]
    ignored = OCCASION_WORDS | JOINING | {name.lower() for name in occasions}
    head, tail = _trim(before, ignored), _trim(after, ignored)
    if any(_normalize(word) not in ignored for word in before):
        return head
    return tail or head or nonempty[0]


def _find_shared(words: Sequence[Sequence[str]]) -> list[str]:
    """Return the words that all begin with."""
    shared = []
    for group in zip(*words, strict=False):
        if len(set(group)) > 1:
            break
        shared.append(group[0])
    return shared


def _trim(words: Sequence[str], ignored: set[str]) -> str:
    kept = list(words)
    while kept and _normalize(kept[-1]) in ignored:
        kept.pop()
    while kept and _normalize(kept[0]) in ignored:
        kept.pop(0)
    return "".join(kept).strip(EDGES)


def _normalize(word: str) -> str:
    return word.strip(EDGES).lower()


def format_label(
    label: str, names: Sequence[str], occasion: Occasion, labels: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """Return the label of a measure at an occasion:

    "Sleep minutes, month 3"; `labels` gives labels of the occasions' codes.
    """
    if not label:
        return ""
    parts = []
    for name, value in zip(names, occasion, strict=True):
        text = format_occasion(value)
        parts.append((labels or {}).get(name, {}).get(text) or f"{name} {text}")
    return ", ".join([label, *parts])
