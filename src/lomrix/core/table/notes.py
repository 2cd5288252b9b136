"""Notes: what a reading or a step wants a person to look at."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

# A sheet shows the header as row 1, so the first row of data is row 2.
FIRST_ROW = 2


@dataclass(frozen=True)
class Note:
    """Something to look at.

    Parameters
    ----------
    text
        What was found, in one sentence.
    column
        The column concerned; empty where it is the whole table.
    examples
        Some of the cells: row as a sheet counts it (the header is row 1), and the value.
    kind
        A word for scripts, such as `stray-text` or `token`.
    count
        Number of cells or rows concerned.
    done
        Whether it only tells what was done as asked, so that nobody need look.
    """

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


def rows_and_columns(rows: int, columns: int) -> str:
    """The size of a table in words: 2 rows and 1 column."""
    return f"{counted(rows, 'row', 'rows')} and {counted(columns, 'column', 'columns')}"


def plural(count: int, one: str, many: str) -> str:
    """The word for one or for many."""
    return one if count == 1 else many


def counted(count: int, one: str, many: str) -> str:
    """A number with its word: 1 row, 2 rows."""
    return f"{count:,} {plural(count, one, many)}"


def times(count: int) -> str:
    """How often: once, 2 times."""
    return "once" if count == 1 else f"{count:,} times"
