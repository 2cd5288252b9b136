"""What may still identify people in a table without names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table

# Texts that are mostly different and hold several words are read as free text.
FREE_TEXT_SHARE = 0.5
SMALL_GROUP = 5
# Shorter texts stand in others by chance.
LEAST_LETTERS = 3
WORD = re.compile(r"\w[\w'’-]*")
MOST_EXAMPLES = 5


def identifying(name: str, column: Column) -> Iterator[Note]:
    """What the shape of a column says."""
    present = len(column) - column.missing_count
    if column.type in ("date", "datetime"):
        distinct = len(np.unique(column.values[~column.is_missing]))
        if distinct > FREE_TEXT_SHARE * max(present, 1):
            text = "single days that are mostly different may identify; see ‹shift› and ‹coarsen›."
            yield Note(text, name, (), "dates", present)
    if column.type == "string" and present:
        texts = column.compact().strings.texts()
        words = sum(" " in text.strip() for text in texts)
        if len(texts) > FREE_TEXT_SHARE * present and words > FREE_TEXT_SHARE * len(texts):
            yield Note("free text may hold names; see ‹remove›.", name, (), "free-text", present)
        elif len(texts) == present and present > SMALL_GROUP:
            yield Note("every value stands once, like an id; see ‹remove›.", name, (), "like-an-id", present)


def removed_texts_elsewhere(before: Table, gone: Sequence[str], made: Table, skipped: Sequence[str]) -> Iterator[Note]:
    """Cells of the columns that stay in which a removed text stands, whole or one of its words.

    Parameters
    ----------
    before
        The table with its names.
    gone
        Columns whose texts nobody should find any more.
    made
        The table without them.
    skipped
        Columns that were made anew.
    """
    sought: dict[str, str] = {}
    for name in gone:
        column = before[name]
        texts = column.compact().strings.texts() if column.type == "string" else column.to_text().unique().to_pylist()
        for text in texts:
            if text is not None:
                whole = " ".join(words_of(text))
                words = [whole, *(words_of(text) if column.type == "string" else [])]
                sought |= {word: name for word in words if len(word) >= LEAST_LETTERS}
    longest = max((text.count(" ") + 1 for text in sought), default=0)
    for name, column in made.columns.items():
        if name in skipped or column.type != "string" or not sought:
            continue
        column = column.compact()
        sources = [source_in(text, sought, longest) for text in column.strings.texts()]
        held = np.append(np.array([source is not None for source in sources], np.bool_), False)[column.values]
        rows = np.flatnonzero(held)
        if len(rows):
            source = next(source for source in sources if source is not None)
            text = f"{counted(len(rows), 'cell holds', 'cells hold')} a text of the column {source}, "
            text += "which should be gone; see ‹remove›, or mend them by a ledger."
            examples = tuple((int(row) + made.first_row, None) for row in rows[:MOST_EXAMPLES])
            yield Note(text, name, examples, "names-left", len(rows))


def words_of(text: str) -> list[str]:
    """The words of a text, in small letters."""
    return [word.casefold() for word in WORD.findall(text)]


def source_in(text: str, sought: dict[str, str], longest: int) -> str | None:
    """The column whose text stands in another; None where none does."""
    words = words_of(text)
    for count in range(1, min(longest, len(words)) + 1):
        for start in range(len(words) - count + 1):
            source = sought.get(" ".join(words[start : start + count]))
            if source is not None:
                return source
    return None
