"""What a check finds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.combining import Combinable, combine


@dataclass(frozen=True)
class Finding(Combinable):
    """One rule that some cells break, or that makes them worth a look.

    Parameters
    ----------
    rule
        The rule's word.
    column
        The column concerned; empty for a rule over the row.
    rows
        Row numbers concerned, counted from 0.
    details
        What was expected, as plain values; `check.wording` puts it into words.
    breaks
        Whether a rule is broken; else it is only worth a look.
    variable
        The column whose cells are to be mended, where that is not `column`.
    is_for_other_file
        Whether it is a rule for another file, which the table has no column of.
    first_rows
        For repeated keys, the first row with the key of each row.
    """

    rule: str
    column: str
    rows: Array
    details: Mapping[str, Any] = field(default_factory=dict)
    breaks: bool = True
    variable: str = ""
    is_for_other_file: bool = False
    first_rows: Array | None = None

    def combine(self, other: Finding) -> Finding:
        """Return what was found in the rows of both, in their order."""
        rows = np.concatenate([self.rows, other.rows])
        order = np.argsort(rows, kind="stable")
        first_rows = None
        if self.first_rows is not None and other.first_rows is not None:
            first_rows = np.concatenate([self.first_rows, other.first_rows])[order]
        details = combine(self.details, other.details) if self.rule == "key-repeated" else self.details
        return replace(self, rows=rows[order], first_rows=first_rows, details=details)
