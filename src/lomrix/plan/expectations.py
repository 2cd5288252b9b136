"""What a plan expects of a step's table."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from lomrix.core.errors import DataError, SettingError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.parse import parse
from lomrix.core.rows.keys import encode_cells
from lomrix.core.steps.settings import check_setting
from lomrix.core.table.notes import pluralize
from lomrix.core.table.table import Table

EXPECTATIONS = ("expect_rows", "expect_cases", "expect_rules")
SHOWN_ROWS = 5


@dataclass(frozen=True)
class Expectations:
    """Expected numbers of rows and cases, and rules."""

    rows: int | None = None
    cases: Mapping[str, int] = field(default_factory=dict)
    rules: tuple[str, ...] = ()

    @classmethod
    def from_keys(cls, keys: Mapping[str, Any]) -> Expectations:
        """Read the expectations of a step."""
        rows, cases, rules = keys.get("expect_rows"), keys.get("expect_cases", {}), keys.get("expect_rules", [])
        if rows is not None and not is_count(rows):
            raise SettingError("expect_rows", f'"{rows}" is not a number of rows.', todo="Write expect_rows = 400.")
        if not isinstance(cases, dict) or not all(map(is_count, cases.values())):
            raise SettingError("expect_cases", "Expected cases need a column.", todo="Write { crew_id = 400 }.")
        rules = [rules] if isinstance(rules, str) else rules
        if not isinstance(rules, list) or not all(isinstance(rule, str) for rule in rules):
            raise SettingError("expect_rules", "The rules must be a list of expressions.", todo='Write ["sleep > 0"].')
        for rule in rules:
            check_setting("expect_rules", partial(parse, rule))
        return cls(rows, cases, tuple(rules))

    def require(self, table: Table) -> None:
        """Raise DataError if a table is not as expected."""
        if self.rows is not None and len(table) != self.rows:
            raise DataError(
                f"{pluralize(self.rows, 'row was', 'rows were')} expected, but there are {len(table):,}.",
                todo="Find where rows were lost or duplicated, or correct expect_rows.",
            )
        for name, expected in self.cases.items():
            codes, _ = encode_cells(table[name])
            count = len(np.unique(codes[codes >= 0]))
            if count != expected:
                raise DataError(
                    f"{pluralize(expected, 'case was', 'cases were')} expected in {name}, but there are {count:,}.",
                    todo="Find which cases are missing or new, or correct expect_cases.",
                )
        for rule in self.rules:
            result = evaluate_condition(rule, table)
            broken = np.flatnonzero(~result.is_missing & ~result.values.astype(np.bool_))
            if len(broken):
                rows = ", ".join(str(row + table.first_row) for row in broken[:SHOWN_ROWS].tolist())
                raise DataError(
                    f"{pluralize(len(broken), 'row breaks', 'rows break')} the rule {rule}.",
                    where=f"{'row' if len(broken) == 1 else 'rows'} {rows}{' …' if len(broken) > SHOWN_ROWS else ''}",
                    todo="Correct the data with a ledger, or change the rule.",
                )


def is_count(value: object) -> bool:
    """Is a value an integer of at least 0?"""
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0
