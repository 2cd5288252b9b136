"""What an export did, in numbers that balance."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.steps.export.settings import Export
from lomrix.core.table.notes import Note, counted, plural, rows_and_columns
from lomrix.core.table.reasons import BUILT_IN
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of


def account_of(
    step: Export, original: Table, ready: Prepared, listings: Sequence[Listing], notes: Sequence[Note]
) -> Account:
    """What was recoded: cells with a value, and the missing ones by what they became.

    Parameters
    ----------
    step
        What was asked for.
    original
        The table as it came in.
    ready
        What was made of it.
    listings, notes
        What else was done.
    """
    made = ready.made
    rows_made = Balance("rows", len(original), (("made ready", len(made)),), quiet=True)
    pairs = list(zip(ready.before.columns.values(), made.columns.values(), strict=True))
    missing = sum(column.missing_count for column in original.columns.values())
    left = sum(column.missing_count for column in made.columns.values())
    coded_cells = sum(int(np.count_nonzero(old.is_missing & ~new.is_missing)) for old, new in pairs)
    kept = sum(int(np.count_nonzero(~old.is_missing & ~new.is_missing)) for old, new in pairs)
    rows = missing_rows(ready)
    shown = [Listing("missing cells", ("reason", "cells", "written as"), rows)] if rows else []
    if ready.recodings:
        how = tuple((name, recoding.how) for name, recoding in ready.recodings.items())
        shown.append(Listing("columns turned into numbers", ("column", "how"), how))
    form = f", {step.form}" if step.form else ""
    return Account(
        "export",
        f"{rows_and_columns(len(made), len(made.names))} made ready{form}.",
        (
            rows_made,
            Balance("cells", len(original) * len(original.names), (("with a value", kept), ("missing", missing))),
            Balance("missing cells", missing, (("written as a code", coded_cells), ("left empty", left))),
        ),
        {
            "form": step.form or "",
            "missing_code": ready.missing.everywhere,
            "missing_codes": {name: dict(codes) for name, codes in ready.codes.items() if codes},
            "rows": len(made),
            "columns": made.names,
            "names_before": dict(ready.old_names),
        },
        (*shown, *listings),
        (*notes, *empty_dates(ready)),
    )


def missing_rows(ready: Prepared) -> tuple[tuple[str, int, str], ...]:
    """Each reason with its cells and what is written for them; columns that take no code stand apart."""
    counts: dict[tuple[str, str], int] = {}
    for name, column in zip(ready.made.names, ready.before.columns.values(), strict=True):
        is_left = ready.made[name].missing_count == column.missing_count
        for reason, count in column.reason_counts().items():
            code = ready.missing.of_cell(name, reason)
            told = code if code and not is_left else "an empty cell"
            counts[reason, told] = counts.get((reason, told), 0) + count
    return tuple((reason, count, told) for (reason, told), count in counts.items())


def reasons_without_code(every: Sequence[Prepared], step: Export) -> list[Note]:
    """Reasons that no code was said for, where one was said for others: they get the code of all the rest."""
    codes = {one.missing.everywhere for one in every} - {""}
    by_reason = any(one.missing.by_reason for one in every)
    if not by_reason or not codes or any(said_of_all(word) for word in step.missing_code):
        return []
    counts: Counter[str] = Counter()
    for one in every:
        for name, column in one.before.columns.items():
            for reason, count in column.reason_counts().items():
                if one.missing.of_cell(name, reason) == one.missing.everywhere and reason not in one.missing.by_reason:
                    counts[reason] += count
    if not counts:
        return []
    cells = f"{counted(counts.total(), 'cell', 'cells')} {plural(counts.total(), 'is', 'are')}"
    text = f"no missing code was said for {some_of(counts)}: {cells} written as {some_of(codes)}."
    return [Note(text, kind="without-code", count=counts.total())]


def said_of_all(word: str) -> bool:
    """True for a missing code that was said of every cell."""
    return "=" not in word and ":" not in word


def codes_for_nothing(every: Sequence[Prepared]) -> list[Note]:
    """Reasons that a code was said for, and that no cell has and no dictionary knows: a slip of the pen, likely."""
    said = dict.fromkeys(reason for one in every for reason in one.missing.by_reason)
    found = dict.fromkeys(
        reason for one in every for column in one.before.columns.values() for reason in column.reason_counts()
    )
    known = {
        reason for one in every for name in one.before.names
        for reason in one.before.dictionary.of(name).missing.values()
    }  # fmt: skip
    absent = [reason for reason in said if reason not in found and reason not in known and reason not in BUILT_IN]
    if not absent:
        return []
    text = f"a missing code is said for {some_of(absent)}, for which no cell is missing"
    text += f"; cells are missing for {some_of(found)}." if found else "."
    return [Note(text, kind="code-for-nothing", count=len(absent))]


def empty_dates(ready: Prepared) -> list[Note]:
    """Columns of dates with missing cells, which take no code."""
    made = ready.made
    dates = [
        name for name, column in made.columns.items() if column.type in ("date", "datetime") and column.missing_count
    ]
    if not dates or not (ready.missing.everywhere or any(ready.codes.values())):
        return []
    return [Note(f"missing dates are left empty, a code is no date: {', '.join(dates)}.", kind="empty-dates")]
