"""Whether a missing code is already used as a value of a column."""

from __future__ import annotations

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_number


def count_code(column: Column, code: str) -> int:
    """Count the cells that hold a code as a value."""
    if column.type == "string":
        # Most codes do not occur in the column, which searching the pool shows without encoding it.
        if column.strings.strings.index(code).as_py() < 0:
            return 0
        column = column.encode()
        return int(np.count_nonzero(column.values == column.strings.strings.index(code).as_py()))
    if column.type not in ("integer", "number") or not is_number(code):
        return 0
    return int(np.count_nonzero((column.values == float(code)) & ~column.is_missing))
