"""Notes: what a person should look at after a reading or a step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

# A spreadsheet counts the header as row 1, so the first row of data is row 2.
FIRST_ROW = 2


@dataclass(frozen=True)
class Note:
    """Something to look at."""

    text: str
    column: str = ""
    examples: tuple[tuple[int, Any], ...] = ()
    kind: str = "note"
    count: int = 0
    done: bool = False

    def to_json(self) -> dict[str, object]:
        """The note as plain values."""
        return {
            "kind": self.kind,
            "column": self.column,
            "text": self.text,
            "count": self.count,
            "done": self.done,
            "examples": [{"row": row, "value": value} for row, value in self.examples],
        }


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
