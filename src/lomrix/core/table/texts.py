"""Tables of text: ledgers, lists of keys, dictionaries and other small files."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from lomrix.core.errors import UsageError
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list


def make_text_column(texts: Sequence[str | None]) -> Column:
    """Make a column of texts; an empty text is a missing cell."""
    strings = pa.array([text or None for text in texts], pa.large_string())
    why = strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
    return Column.of_strings(None, Pool(strings), why, ("blank",))


def make_text_table(heads: Sequence[str], rows: Sequence[Sequence[str | None]], name: str) -> Table:
    """Make a table of texts from its rows, one cell per head."""
    return Table({head: make_text_column([row[index] for row in rows]) for index, head in enumerate(heads)}, name=name)


def read_text_rows(table: Table) -> list[dict[str, str]]:
    """Return the rows of a table of texts; a missing cell is an empty text."""
    cells = {name: column.to_text().to_pylist() for name, column in table.columns.items()}
    return [{name: (values[row] or "").strip() for name, values in cells.items()} for row in range(len(table))]


def require_heads(table: Table, heads: Sequence[str], what: str) -> None:
    """Stop if a table of texts lacks a required column.

    Raises UsageError naming the first missing one.
    """
    missing = [name for name in heads if name not in table.columns]
    if missing:
        raise UsageError(
            f"The {what} {table.name} has no column {missing[0]}.",
            where=f"its columns are {shorten_list(table.names)}",
            todo=f"Its columns are {', '.join(heads)}.",
        )
