"""What may still identify people in a table without names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table

# Texts that are mostly different and hold several words are read as free text.
FREE_TEXT_SHARE = 0.5
SMALL_GROUP = 5
# Shorter texts occur in others by chance.
LEAST_LETTERS = 3
WORD = re.compile(r"\w[\w'’-]*")


def note_identifying(name: str, column: Column) -> Iterator[Note]:
    """Note what the values of a column may reveal."""
    present = len(column) - column.missing_count
    if column.type in ("date", "datetime"):
        distinct = len(np.unique(column.values[~column.is_missing]))
        if distinct > FREE_TEXT_SHARE * max(present, 1):
            text = "single days that are mostly different may identify; see ‹shift› and ‹coarsen›."
            yield Note(text, name, (), "dates", present)
    if column.type == "string" and present:
        texts = column.compact().strings.texts()
        phrases = sum(" " in text.strip() for text in texts)
        if len(texts) > FREE_TEXT_SHARE * present and phrases > FREE_TEXT_SHARE * len(texts):
            yield Note("free text may hold names; see ‹remove›.", name, (), "free-text", present)
        elif len(texts) == present and present > SMALL_GROUP:
            yield Note("every value is unique, like an id; see ‹remove›.", name, (), "like-an-id", present)


def find_names_left(before: Table, removed: Sequence[str], result: Table, skipped: Sequence[str]) -> Iterator[Note]:
    """Note cells of the remaining columns that contain a removed text, in full or one of its words."""
    targets: dict[str, str] = {}
    for name in removed:
        column = before[name]
        texts = column.compact().strings.texts() if column.type == "string" else column.to_text().unique().to_pylist()
        for text in texts:
            if text is not None:
                full_text = " ".join(split_words(text))
                words = [full_text, *(split_words(text) if column.type == "string" else [])]
                targets |= {word: name for word in words if len(word) >= LEAST_LETTERS}
    longest = max((text.count(" ") + 1 for text in targets), default=0)
    for name, column in result.columns.items():
        if name in skipped or column.type != "string" or not targets:
            continue
        column = column.compact()
        sources = [find_source(text, targets, longest) for text in column.strings.texts()]
        has_name = np.append(np.array([source is not None for source in sources], np.bool_), False)[column.values]
        rows = np.flatnonzero(has_name)
        if len(rows):
            source = next(source for source in sources if source is not None)
            text = f"{pluralize(len(rows), 'cell holds', 'cells hold')} a text of the column {source}, "
            text += "which should be gone; see ‹remove›, or correct them with a ledger."
            yield Note(text, name, result.show_rows(rows), "names-left", len(rows))


def split_words(text: str) -> list[str]:
    """Return the words of a text, casefolded."""
    return [word.casefold() for word in WORD.findall(text)]


def find_source(text: str, targets: dict[str, str], longest: int) -> str | None:
    """Return the column whose text occurs in another; None if none does."""
    words = split_words(text)
    for count in range(1, min(longest, len(words)) + 1):
        for start in range(len(words) - count + 1):
            source = targets.get(" ".join(words[start : start + count]))
            if source is not None:
                return source
    return None
