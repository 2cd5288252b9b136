"""Notes: what a person should look at after a reading or a step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Self

from lomrix.core.combining import MOST_EXAMPLES, Words, identify_text
from lomrix.core.nearest import find_near_duplicates, name_difference

# A spreadsheet counts the header as row 1, so the first row of data is row 2.
FIRST_ROW = 2
# Texts are compared with each other if they are at most this many.
MOST_ALIKE = 5_000


@dataclass(frozen=True)
class Note:
    """Something to look at; `reading` are the settings that would read the file as the note proposes."""

    text: str
    column: str = ""
    examples: tuple[tuple[int, Any], ...] = ()
    kind: str = "note"
    count: int = 0
    done: bool = False
    reading: tuple[tuple[str, str], ...] = ()

    @property
    def identity(self) -> tuple[object, ...]:
        """What it is about, by which it is found in another part."""
        return self.kind, self.column, identify_text(self.text)

    @property
    def adds_up(self) -> bool:
        """True if notes on parts give the note on the whole."""
        return isinstance(self.text, Words)

    @property
    def is_empty(self) -> bool:
        """True if it is about no cell of the whole, though it might have been."""
        return not self.count and isinstance(self.text, Words)

    def combine(self, later: Self) -> Self:
        """Add up the counts; the first examples by row number stay."""
        if not isinstance(self.text, Words):
            return self
        examples = sorted((*self.examples, *later.examples), key=lambda example: example[0])
        return replace(
            self,
            text=self.text.combine(later.text),  # type: ignore[arg-type]
            count=self.count + later.count,
            examples=tuple(examples[:MOST_EXAMPLES]),
        )

    def to_json(self) -> dict[str, object]:
        """The note as plain values."""
        return {
            "kind": self.kind,
            "column": self.column,
            "text": self.text,
            "count": self.count,
            "done": self.done,
            "reading": [{"setting": setting, "value": value} for setting, value in self.reading],
            "examples": [{"row": row, "value": value} for row, value in self.examples],
        }


def note_alike(name: str, texts: Sequence[str], what: str) -> list[Note]:
    """Note texts that differ only in capitals or spaces, though each is an occasion, or a group, of its own; more than
    MOST_ALIKE are hardly written by hand.
    """
    notes = []
    for group in find_near_duplicates(texts, [1] * len(texts)) if len(texts) <= MOST_ALIKE else ():
        alike = " and ".join(f'"{text}"' for text, _ in group)
        text = f"{alike} differ only in {name_difference([text for text, _ in group])}, and are different {what}."
        notes.append(Note(text, name, (), "nearly-same", len(group)))
    return notes


def format_size(rows: int, columns: int) -> str:
    """Format the size of a table: 2 rows and 1 column."""
    return f"{pluralize(rows, 'row')} and {pluralize(columns, 'column')}"


def plural(count: int, singular: str, plural_form: str = "") -> str:
    """Return the word for one or for many."""
    return singular if count == 1 else plural_form or f"{singular}s"


def pluralize(count: int, singular: str, plural_form: str = "") -> str:
    """Format a number with its word: 1 row, 2 rows."""
    return f"{count:,} {plural(count, singular, plural_form)}"


def format_times(count: int) -> str:
    """Format how often: once, 2 times."""
    return "once" if count == 1 else f"{count:,} times"
