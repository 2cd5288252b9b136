"""The draft of a ledger: a row for each suspicious cell, with obvious corrections filled in."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np

from lomrix.core.steps.check.finding import Finding
from lomrix.core.steps.check.findings import format_values
from lomrix.core.steps.check.wording import describe_expectation
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import NUMBER_PATTERN, is_whole
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_column
from lomrix.core.wording import format_settings

LEDGER = ("row", "variable", "old", "action", "new", "why", "by")
# A number with a remark behind it, as in "15 est".
NUMBER_AND_REMARK = re.compile(rf"({NUMBER_PATTERN})(?![\d.,:/-])\s*\D.*")
LONGEST_REASON = 40


@dataclass
class Entry:
    """One cell of the draft."""

    row: int
    variable: str
    old: str | None
    action: str = "set"
    new: str | None = None
    why: list[str] = field(default_factory=list)


def draft_ledger(table: Table, findings: list[Finding], names: tuple[str, ...]) -> Table:
    """Return the draft.

    A cell with several findings is one row. Spaces around a text, zeros lost from an id, a remark behind a number and a
    text among numbers have an obvious correction; rows without any value, and of rows with the same key all but the
    first, are to be left out; the others stay open. `names` are columns that the ledger includes, such as case and key.
    """
    entries: dict[tuple[int, str], Entry] = {}
    for finding in findings:
        variable = finding.variable or finding.column
        if variable not in table.columns:
            continue
        first_rows = finding.rows if finding.first_rows is None else finding.first_rows
        cells = format_values(table[variable], finding.rows)
        expectation = format_settings(describe_expectation(finding), lambda name, value: f"{name}={value}")
        for row, first, old in zip(finding.rows.tolist(), first_rows.tolist(), cells, strict=True):
            is_repeated = finding.first_rows is not None
            if is_repeated and row == first:
                continue
            entry = entries.setdefault((row, variable), Entry(row, variable, old))
            text = f"row {first + table.first_row} has the same key" if is_repeated else expectation
            entry.why.append(f"{finding.rule}: {text}")
            action, new = ("leave-out", None) if is_repeated else suggest_correction(finding, old)
            if entry.action != "leave-out" and entry.new is None and (new is not None or action == "leave-out"):
                entry.action, entry.new = action, new
    rows = np.array([row for row, _ in entries], np.int64)
    columns: dict[str, Column] = {name: table[name].take(rows).widen("string") for name in names if name not in LEDGER}
    columns["row"] = Column.of("integer", rows + table.first_row)
    lines = entries.values()
    texts: dict[str, list[str | None]] = {
        "variable": [finding.variable for finding in lines],
        "old": [finding.old for finding in lines],
        "action": [finding.action for finding in lines],
        "new": [finding.new for finding in lines],
        "why": ["; ".join(finding.why) for finding in lines],
        "by": [None for _ in lines],
    }
    columns |= {name: make_text_column(texts) for name, texts in texts.items()}
    return Table(columns, name="ledger")


def suggest_correction(finding: Finding, old: str | None) -> tuple[str, str | None]:
    """Return the ledger's action for a cell, and the new value if it is obvious.

    >>> suggest_correction(Finding("text-in-numbers", "age", np.array([4])), "15 est")
    ('note', '15')
    >>> suggest_correction(Finding("text-in-numbers", "age", np.array([4])), "lost")
    ('missing', 'lost')
    >>> suggest_correction(Finding("spaces-around", "town", np.array([4])), " Bergen")
    ('set', 'Bergen')
    """
    if finding.rule == "empty-row":
        return "leave-out", None
    if old is None:
        return "set", None
    text = old.strip()
    if finding.rule == "spaces-around":
        return "set", text
    shape = finding.details.get("shape", "")
    if finding.rule == "key-shape" and set(shape) == {"0"} and is_whole(text) and len(text) < len(shape):
        return "set", text.zfill(len(shape))
    if finding.rule == "text-in-numbers":
        remark = NUMBER_AND_REMARK.fullmatch(text)
        if remark:
            return "note", remark[1]
        if not any(character.isdigit() for character in text) and len(text) <= LONGEST_REASON:
            return "missing", text
    return "set", None
