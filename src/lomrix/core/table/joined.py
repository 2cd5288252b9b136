"""Columns put under each other, with their reasons."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from lomrix.core.table.column import DTYPES, FILLERS, Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import Why, joined_reasons, renumbered
from lomrix.core.table.types import Type


def joined_whys(parts: Sequence[Column]) -> tuple[Why | None, tuple[str, ...]]:
    """The reasons of columns that stand under each other, counted alike.

    Returns
    -------
    Array of uint8, one number per row of all columns (None where nothing is missing), and the reasons it counts.
    """
    reasons = joined_reasons(*(part.reasons for part in parts))
    if all(part.why is None for part in parts):
        return None, reasons
    whys = [
        np.zeros(len(part), np.uint8) if part.why is None else renumbered(part.why, part.reasons, reasons)
        for part in parts
    ]
    return np.concatenate(whys), reasons


def stacked_column(parts: Sequence[Column], type_: Type) -> Column:
    """Columns of one type, one under the other, with their reasons."""
    why, reasons = joined_whys(parts)
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
