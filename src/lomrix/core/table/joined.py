"""Columns concatenated row-wise, with their reasons."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from lomrix.core.table.column import DTYPES, FILLERS, Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import Why, join_reasons, renumber_why
from lomrix.core.table.types import Type


def concatenate_whys(parts: Sequence[Column]) -> tuple[Why | None, tuple[str, ...]]:
    """Concatenate the `why` arrays of columns (None if nothing is missing), and return the reasons they count."""
    reasons = join_reasons(*(part.reasons for part in parts))
    if all(part.why is None for part in parts):
        return None, reasons
    whys = [
        np.zeros(len(part), np.uint8) if part.why is None else renumber_why(part.why, part.reasons, reasons)
        for part in parts
    ]
    return np.concatenate(whys), reasons


def concatenate_columns(parts: Sequence[Column], type_: Type) -> Column:
    """Concatenate columns of one type, with their reasons."""
    why, reasons = concatenate_whys(parts)
    if type_ != "string":
        return Column.of(type_, np.concatenate([part.values for part in parts]), why, reasons)
    pool = Pool(pa.concat_arrays([part.strings.strings for part in parts]))
    if all(part.stored is None for part in parts):
        return Column.of_strings(None, pool, why, reasons)
    start, positions = 0, []
    for part in parts:
        positions.append(np.where(part.values < 0, FILLERS["string"], part.values + start).astype(DTYPES["string"]))
        start += len(part.strings)
    return Column.of_strings(np.concatenate(positions), pool, why, reasons)
