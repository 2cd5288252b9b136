"""All findings in one table, the worst first, and a draft ledger of the suspicious cells."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import Proposal
from lomrix.core.rows.keys import format_keys
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.check.finding import Finding
from lomrix.core.steps.check.findings import find_all, format_values
from lomrix.core.steps.check.ledger import draft_ledger
from lomrix.core.steps.check.settings import Check
from lomrix.core.steps.check.wording import describe_expectation
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, format_size, pluralize
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

LEDGER_NAME = "draft_ledger"


def check_table(step: Check, tables: Inputs, wanted: Collection[str]) -> Result:
    """Check the table; a draft ledger of the suspicious cells is an extra."""
    checking = Checking(step)
    table = tables.get_one()
    for name in step.names:
        table[name]
    findings = find_all(table, step.key, step.case or step.key, step.spell)
    drafts = LEDGER_NAME in wanted
    extras = {LEDGER_NAME: draft_ledger(table, findings, step.names)} if drafts else {}
    return Result(table, checking.make_account(table, findings, drafts=drafts), extras)


@dataclass(frozen=True)
class Checking:
    """What becomes of the findings: an account."""

    step: Check

    def make_account(self, table: Table, findings: list[Finding], *, drafts: bool) -> Account:
        """Report the findings, and rows with and without one."""
        other_files = [finding.rule for finding in findings if finding.is_for_other_file]
        findings = [finding for finding in findings if not finding.is_for_other_file]
        broken = [finding for finding in findings if finding.breaks]
        rows_found = np.unique(np.concatenate([finding.rows for finding in findings])) if findings else np.zeros(0)
        rows = tuple(
            (
                "broken" if finding.breaks else "look",
                finding.rule,
                finding.column or "—",
                len(finding.rows),
                describe_expectation(finding),
                self._format_first(table, finding),
            )
            for finding in findings
        )
        listing = Listing("findings, the worst first", ("", "rule", "column", "cells", "expected", "first rows"), rows)
        counts = pluralize(len(broken), "rule"), pluralize(len(findings) - len(broken), "finding")
        summary = f"{counts[0]} broken, {counts[1]} to look at, in {pluralize(len(table), 'row')}."
        if not findings:
            summary = f"No finding in {format_size(len(table), len(table.names))}."
        return Account(
            "check",
            summary,
            (
                Balance(
                    "rows",
                    len(table),
                    (
                        Part("kept", len(table) - len(rows_found), "sound"),
                        Part("kept", len(rows_found), "finding"),
                    ),
                ),
            ),
            {"broken": len(broken), "findings": [self._describe(table, finding) for finding in findings]},
            (listing,) if rows else (),
            note_unchecked_rules(other_files),
            (self._propose_draft(),) if rows and not drafts else (),
        )

    def _propose_draft(self) -> Proposal:
        words = "for a ledger of these cells to fill in"
        return Proposal("check", self.step.to_dict(), outputs={LEDGER_NAME: "ledger.csv"}, words=words)

    def _describe(self, table: Table, finding: Finding) -> dict[str, object]:
        values = format_values(table[finding.column], finding.rows[:100]) if finding.column in table.columns else []
        return {
            "rule": finding.rule, "column": finding.column, "count": len(finding.rows), "broken": finding.breaks,
            "rows": (finding.rows[:100] + table.first_row).tolist(), "values": values,
            "expected": describe_expectation(finding), "details": dict(finding.details),
        }  # fmt: skip

    def _format_first(self, table: Table, finding: Finding) -> str:
        first_rows = finding.rows[:MOST_EXAMPLES]
        names = self.step.case or self.step.key
        keys = (
            format_keys(table, names, first_rows) if names and finding.column not in names else [""] * len(first_rows)
        )
        values: list[Any] = (
            format_values(table[finding.column], first_rows)
            if finding.column in table.columns
            else [None] * len(first_rows)
        )
        parts = []
        for row, key, value in zip((first_rows + table.first_row).tolist(), keys, values, strict=True):
            value_text = (
                "" if value is None else f' "{value}"' if value != value.strip() or " " in value else f" {value}"
            )
            parts.append(f"row {row}{f' ({key})' if key else ''}{value_text}")
        return ", ".join(parts) + (" …" if len(finding.rows) > len(first_rows) else "")


def note_unchecked_rules(names: Sequence[str]) -> tuple[Note, ...]:
    """Note rules that were not checked."""
    if not names:
        return ()
    text = f"not checked, since this file has none of their columns: {shorten_list(names)}."
    return (Note(text, kind="not-judged", count=len(names), done=True),)
