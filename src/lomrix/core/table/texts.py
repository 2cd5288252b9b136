"""Tables of texts: ledgers, lists of keys and dictionaries on their way into a file."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from lomrix.core.errors import UsageError
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of


def column_of_texts(texts: Sequence[str | None]) -> Column:
    """A column of texts; an empty one is a blank."""
    strings = pa.array([text or None for text in texts], pa.large_string())
    why = strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
    return Column.of_strings(None, Pool(strings), why, ("blank",))


def table_of_texts(heads: Sequence[str], rows: Sequence[Sequence[str | None]], name: str) -> Table:
    """A table of texts from its rows.

    Parameters
    ----------
    heads
        Names of the columns.
    rows
        One sequence of cells for each row, as long as `heads`.
    name
        Name of the table.
    """
    return Table({head: column_of_texts([row[at] for row in rows]) for at, head in enumerate(heads)}, name=name)


def rows_of(table: Table) -> list[dict[str, str]]:
    """The rows of a table of texts; a blank is an empty text."""
    cells = {name: column.to_text().to_pylist() for name, column in table.columns.items()}
    return [{name: (values[row] or "").strip() for name, values in cells.items()} for row in range(len(table))]


def require_heads(table: Table, heads: Sequence[str], what: str) -> None:
    """Stop where a table of texts has not the columns that it needs.

    Raises
    ------
    UsageError
        Naming the first that is wanting.
    """
    wanting = [name for name in heads if name not in table.columns]
    if wanting:
        raise UsageError(
            f"The {what} {table.name} has no column {wanting[0]}.",
            where=f"its columns are {some_of(table.names)}",
            todo=f"Its columns are {', '.join(heads)}.",
        )
