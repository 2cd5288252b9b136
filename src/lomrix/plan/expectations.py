"""What a step's table has to be, for the plan to go on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from lomrix.core.errors import DataError, SettingError
from lomrix.core.language.evaluate import condition
from lomrix.core.language.parse import parsed
from lomrix.core.rows.keys import unordered_codes
from lomrix.core.steps.settings import hold
from lomrix.core.table.notes import counted
from lomrix.core.table.table import Table

EXPECTATIONS = ("expect_rows", "expect_cases", "expect_rules")
MOST_SHOWN = 5


@dataclass(frozen=True)
class Expectations:
    """Numbers and rules.

    Parameters
    ----------
    rows
        How many rows there have to be; None where nothing was said.
    cases
        By column, how many different values it has to have.
    rules
        Expressions that must be true of every row.
    """

    rows: int | None = None
    cases: Mapping[str, int] = field(default_factory=dict)
    rules: tuple[str, ...] = ()

    @classmethod
    def of(cls, keys: Mapping[str, Any]) -> Expectations:
        """Those that a step of a plan says.

        Raises
        ------
        SettingError
            Where one of them cannot be understood.
        """
        rows, cases, rules = keys.get("expect_rows"), keys.get("expect_cases", {}), keys.get("expect_rules", [])
        if rows is not None and not is_count(rows):
            raise SettingError("expect_rows", f'"{rows}" is no number of rows.', todo="Say expect_rows = 400.")
        if not isinstance(cases, dict) or not all(map(is_count, cases.values())):
            raise SettingError("expect_cases", "Cases are counted by a column.", todo="Say { crew_id = 400 }.")
        rules = [rules] if isinstance(rules, str) else rules
        if not isinstance(rules, list) or not all(isinstance(rule, str) for rule in rules):
            raise SettingError("expect_rules", "The rules are a list of expressions.", todo='Say ["sleep > 0"].')
        for rule in rules:
            hold("expect_rules", partial(parsed, rule))
        return cls(rows, cases, tuple(rules))

    def require(self, table: Table) -> None:
        """Stop where a table is not what was expected.

        Raises
        ------
        DataError
            With both numbers, or the rows that break a rule.
        """
        if self.rows is not None and len(table) != self.rows:
            raise DataError(
                f"{counted(self.rows, 'row was', 'rows were')} expected, and there are {len(table):,}.",
                todo="Look where rows were lost or came twice, or mend expect_rows.",
            )
        for name, expected in self.cases.items():
            codes, _ = unordered_codes(table[name])
            found = len(np.unique(codes[codes >= 0]))
            if found != expected:
                raise DataError(
                    f"{counted(expected, 'case was', 'cases were')} expected by {name}, and there are {found:,}.",
                    todo="Look which cases are wanting or too many, or mend expect_cases.",
                )
        for rule in self.rules:
            truth = condition(rule, table)
            broken = np.flatnonzero(~truth.is_missing & ~truth.values.astype(np.bool_))
            if len(broken):
                rows = ", ".join(str(row + table.first_row) for row in broken[:MOST_SHOWN].tolist())
                raise DataError(
                    f"{counted(len(broken), 'row breaks', 'rows break')} the rule {rule}.",
                    where=f"{'row' if len(broken) == 1 else 'rows'} {rows}{' …' if len(broken) > MOST_SHOWN else ''}",
                    todo="Correct the data with a ledger, or mend the rule.",
                )


def is_count(value: object) -> bool:
    """True for whole numbers from 0 on."""
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0
