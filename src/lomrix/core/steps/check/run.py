"""All findings in one table, the worst first, and a ledger of the suspicious cells."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lomrix.core.rows.keys import key_texts
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.check.findings import Finding, all_findings, value_texts
from lomrix.core.steps.check.ledger import draft
from lomrix.core.steps.check.settings import Check
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, counted, rows_and_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

MOST_EXAMPLES = 4
LEDGER_NAME = "draft_ledger"


def checked(step: Check, tables: Inputs, wanted: Collection[str]) -> Result:
    """Check the table; a draft of a ledger of the cells found is an extra."""
    work = Checking(step)
    table = tables.one()
    for name in step.names:
        table[name]
    found = all_findings(table, step.key, step.case or step.key)
    drafts = LEDGER_NAME in wanted
    extras = {LEDGER_NAME: draft(table, found, step.names)} if drafts else {}
    return Result(table, work.account(table, found, drafts=drafts), extras)


@dataclass(frozen=True)
class Checking:
    """What the findings become: an account, and a ledger."""

    step: Check

    def account(self, table: Table, found: list[Finding], *, drafts: bool) -> Account:
        """The findings in words, and rows with and without one."""
        elsewhere = [one.rule for one in found if one.is_elsewhere]
        found = [one for one in found if not one.is_elsewhere]
        broken = [one for one in found if one.breaks]
        rows_found = np.unique(np.concatenate([one.rows for one in found])) if found else np.zeros(0)
        rows = tuple(
            (
                "broken" if one.breaks else "look",
                one.rule,
                one.column or "—",
                len(one.rows),
                one.text,
                self._first(table, one),
            )
            for one in found
        )
        listing = Listing("findings, the worst first", ("", "rule", "column", "cells", "expected", "first rows"), rows)
        told = counted(len(broken), "rule", "rules"), counted(len(found) - len(broken), "finding", "findings")
        summary = f"{told[0]} broken, {told[1]} to look at, in {counted(len(table), 'row', 'rows')}."
        if not found:
            summary = f"No finding in {rows_and_columns(len(table), len(table.names))}."
        return Account(
            "check",
            summary,
            (
                Balance(
                    "rows",
                    len(table),
                    (("without a finding", len(table) - len(rows_found)), ("with a finding", len(rows_found))),
                ),
            ),
            {"broken": len(broken), "findings": [self._fact(table, one) for one in found]},
            (listing,) if rows else (),
            notes_on_rules(elsewhere),
            ("add ‹draft_ledger=ledger.csv› to have these cells as a ledger to fill in",)
            if rows and not drafts
            else (),
        )

    def _fact(self, table: Table, one: Finding) -> dict[str, object]:
        values = value_texts(table[one.column], one.rows[:100]) if one.column in table.columns else []
        return {
            "rule": one.rule, "column": one.column, "count": len(one.rows), "broken": one.breaks,
            "rows": (one.rows[:100] + table.first_row).tolist(), "values": values, "expected": one.text,
        }  # fmt: skip

    def _first(self, table: Table, one: Finding) -> str:
        some = one.rows[:MOST_EXAMPLES]
        names = self.step.case or self.step.key
        keys = key_texts(table, names, some) if names and one.column not in names else [""] * len(some)
        values: list[Any] = value_texts(table[one.column], some) if one.column in table.columns else [None] * len(some)
        told = []
        for row, key, value in zip((some + table.first_row).tolist(), keys, values, strict=True):
            shown = "" if value is None else f' "{value}"' if value != value.strip() or " " in value else f" {value}"
            told.append(f"row {row}{f' ({key})' if key else ''}{shown}")
        return ", ".join(told) + (" …" if len(one.rows) > len(some) else "")


def notes_on_rules(names: Sequence[str]) -> tuple[Note, ...]:
    """What is reported of rules that were not judged."""
    if not names:
        return ()
    text = f"not judged, since no column of theirs is in this file: {some_of(names)}."
    return (Note(text, kind="not-judged", count=len(names), done=True),)
