"""Numbers in distinct texts."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.table.numbers import Type
from lomrix.core.text import rules
from lomrix.core.text.values import match_texts


def parse_numbers(texts: pa.Array, declared: Type | None) -> tuple[Array, npt.NDArray[np.bool_]]:
    """Return the value of each distinct text that is a number, and which are; ids count only if a type is declared."""
    fits = match_texts(texts, rules.NUMBER)
    if declared is None:
        fits &= ~match_texts(texts, rules.ID_LIKE)
    whole = bool(match_texts(texts, rules.WHOLE)[fits].all())
    plain = pc.utf8_ltrim(pc.if_else(pa.array(fits), texts, "0"), "+")
    if whole:
        try:
            return plain.cast(pa.int64()).to_numpy(zero_copy_only=False), fits
        except pa.ArrowInvalid:  # over 18 digits
            if declared == "integer":
                return parse_integers(plain, fits)
    values = np.array(plain.cast(pa.float64()).to_numpy(zero_copy_only=False))
    fits &= np.isfinite(values)
    # A nonzero number too small for float64 counts as unreadable rather than 0.
    fits &= (values != 0) | ~match_texts(texts, rules.NONZERO)
    return np.where(fits, values, 0.0), fits


def parse_integers(plain: pa.Array, fits: npt.NDArray[np.bool_]) -> tuple[Array, npt.NDArray[np.bool_]]:
    """Parse whole numbers of any length; those beyond 64 bits do not fit."""
    in_range = np.array([-(2**63) <= int(text) < 2**63 for text in plain.to_pylist()])
    values = pc.if_else(pa.array(in_range), plain, "0").cast(pa.int64()).to_numpy(zero_copy_only=False)
    return values, fits & in_range
