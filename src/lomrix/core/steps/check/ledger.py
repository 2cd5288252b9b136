"""The draft of a ledger: a row for each suspicious cell, with what is obvious filled in."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np

from lomrix.core.steps.check.findings import Finding, value_texts
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import NUMBER_PATTERN, is_whole
from lomrix.core.table.table import Table
from lomrix.core.table.texts import column_of_texts

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


def draft(table: Table, found: list[Finding], names: tuple[str, ...]) -> Table:
    """The draft as a table.

    A cell with several findings is one row. Blanks around a text, zeros lost from an id, a remark behind a number and a
    text among numbers have an obvious mending, which is filled in; the others stay open.

    Parameters
    ----------
    table
        What was checked.
    found
        The findings.
    names
        Columns of the case and the key, which the ledger gets too.
    """
    entries: dict[tuple[int, str], Entry] = {}
    for one in found:
        variable = one.variable or one.column
        if variable not in table.columns:
            continue
        for row, old in zip(one.rows.tolist(), value_texts(table[variable], one.rows), strict=True):
            entry = entries.setdefault((row, variable), Entry(row, variable, old))
            entry.why.append(f"{one.rule}: {one.text}")
            action, new = obvious(one, old)
            if entry.new is None and new is not None:
                entry.action, entry.new = action, new
    rows = np.array([row for row, _ in entries], np.int64)
    columns: dict[str, Column] = {
        name: table[name].take(rows).widened("string") for name in names if name not in LEDGER
    }
    columns["row"] = Column.of("integer", rows + table.first_row)
    told = entries.values()
    words: dict[str, list[str | None]] = {
        "variable": [one.variable for one in told],
        "old": [one.old for one in told],
        "action": [one.action for one in told],
        "new": [one.new for one in told],
        "why": ["; ".join(one.why) for one in told],
        "by": [None for _ in told],
    }
    columns |= {name: column_of_texts(texts) for name, texts in words.items()}
    return Table(columns, name="ledger")


def obvious(one: Finding, old: str | None) -> tuple[str, str | None]:
    """What the ledger should do with a cell, and the new value where it goes without saying.

    Examples
    --------
    >>> obvious(Finding("text-in-numbers", "age", np.array([4]), "the other cells are numbers"), "15 est")
    ('note', '15')
    >>> obvious(Finding("text-in-numbers", "age", np.array([4]), "the other cells are numbers"), "lost")
    ('missing', 'lost')
    >>> obvious(Finding("blanks-around", "town", np.array([4]), "no blank"), " Bergen")
    ('set', 'Bergen')
    """
    if old is None:
        return "set", None
    text = old.strip()
    if one.rule == "blanks-around":
        return "set", text
    if (
        one.rule == "key-shape"
        and one.shape
        and set(one.shape) == {"0"}
        and is_whole(text)
        and len(text) < len(one.shape)
    ):
        return "set", text.zfill(len(one.shape))
    if one.rule == "text-in-numbers":
        remark = NUMBER_AND_REMARK.fullmatch(text)
        if remark and one.of_numbers:
            return "note", remark[1]
        if not any(sign.isdigit() for sign in text) and len(text) <= LONGEST_REASON:
            return "missing", text
    return "set", None
