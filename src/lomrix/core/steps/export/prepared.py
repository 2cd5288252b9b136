"""Prepared: an exported table, and what is needed to understand it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.rows.column_survey import TableSurvey
from lomrix.core.rows.described import VariableSummary, summarize_variable
from lomrix.core.steps.export.missing_codes import NO_CODES, MissingCodes
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table


@dataclass(frozen=True)
class Recoding:
    """How a column became numbers, and for coded text the Arrow array of its texts with their codes, in order."""

    how: str = ""
    texts: pa.Array = field(default_factory=lambda: pa.array([], pa.large_string()))
    codes: Array = field(default_factory=lambda: np.zeros(0, np.int64))

    def list_codes(self) -> list[tuple[float, str]]:
        """Return each code with its text."""
        return list(zip(self.codes.tolist(), self.texts.to_pylist(), strict=True))


@dataclass(frozen=True)
class Prepared:
    """How to understand what was exported."""

    # the table with its reasons, and as it is written; both have the same rows and columns in the same order
    before: Table
    made: Table
    missing: MissingCodes = NO_CODES  # the missing codes as they were said, or found
    # by column as it is written, each missing code that stands in it with its reason
    codes: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    recodings: Mapping[str, Recoding] = field(default_factory=dict)  # by column as it is written, what became of it
    # by column as it is written, its name before; only where that differs
    old_names: Mapping[str, str] = field(default_factory=dict)
    # what the dictionary said before the columns were recoded, by their names as written
    labels: Dictionary = field(default_factory=Dictionary)
    survey: TableSurvey | None = None  # of the table before, where it was worked on in parts

    @cached_property
    def variables(self) -> tuple[VariableSummary, ...]:
        """Each column with its counts and statistics, computed when needed."""
        surveys = self.survey.columns if self.survey is not None else {}
        return tuple(
            summarize_variable(name, column, self.labels.of(name), self.labels.labels_of(name), surveys.get(name))
            for name, column in self.before.columns.items()
        )
