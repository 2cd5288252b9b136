"""Whether a code that shall stand for missing is already a value of a column."""

from __future__ import annotations

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_number


def times_used(column: Column, code: str) -> int:
    """How many cells hold a code as a value."""
    if column.type == "string":
        # Most codes are no text of the column, which a look through the pool tells without encoding it.
        if column.strings.strings.index(code).as_py() < 0:
            return 0
        column = column.encoded()
        return int(np.count_nonzero(column.values == column.strings.strings.index(code).as_py()))
    if column.type not in ("integer", "number") or not is_number(code):
        return 0
    return int(np.count_nonzero((column.values == float(code)) & ~column.is_missing))
