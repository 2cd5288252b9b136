"""The account of an export."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from lomrix.core.combining import Words
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.export.coding import Occurring
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.steps.export.settings import Export
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.reasons import BUILT_IN
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list


def make_account(
    step: Export,
    original: Table,
    ready: Prepared,
    occurring: Occurring,
    listings: Sequence[Listing],
    notes: Sequence[Note],
) -> Account:
    """Report what was recoded: cells with a value, and missing ones by what they became."""
    result = ready.made
    rows_made = Balance("rows", len(original), (Part("kept", len(result)),), quiet=True)
    pairs = list(zip(ready.before.columns.values(), result.columns.values(), strict=True))
    missing = sum(column.missing_count for column in original.columns.values())
    still_missing = sum(column.missing_count for column in result.columns.values())
    coded_cells = sum(int(np.count_nonzero(old.is_missing & ~new.is_missing)) for old, new in pairs)
    kept = sum(int(np.count_nonzero(~old.is_missing & ~new.is_missing)) for old, new in pairs)
    rows = list_missing(ready, occurring)
    tables = [Listing("missing cells", ("reason", "cells", "written as"), rows)] if rows else []
    if ready.recodings:
        how = tuple((name, recoding.how) for name, recoding in ready.recodings.items())
        tables.append(Listing("columns turned into numbers", ("column", "how"), how))
    form = f", {step.form}" if step.form else ""
    return Account(
        "export",
        Words("{n:row} and {size} made ready{form}.", n=len(result), size=pluralize(len(result.names), "column"),
              form=form),
        (
            rows_made,
            Balance(
                "cells", len(original) * len(original.names), (Part("kept", kept, "present"), Part("missing", missing))
            ),
            Balance(
                "missing cells", missing, (Part("changed", coded_cells, "coded"), Part("kept", still_missing, "empty"))
            ),
        ),
        {
            "form": step.form or "",
            "missing_code": ready.missing.everywhere,
            "missing_codes": {name: dict(codes) for name, codes in ready.codes.items() if codes},
            "rows": len(result),
            "columns": result.names,
            "names_before": dict(ready.old_names),
        },
        (*tables, *listings),
        (*notes, *note_empty_dates(ready, occurring)),
    )  # fmt: skip


def list_missing(ready: Prepared, occurring: Occurring) -> tuple[tuple[str, int, str], ...]:
    """List each reason with its cells and what is written for them; columns without codes are separate."""
    counts: dict[tuple[str, str], int] = {}
    for name, column in zip(ready.made.names, ready.before.columns.values(), strict=True):
        here = column.reason_counts()
        for reason in occurring.reasons[name]:
            code = ready.missing.get_code(name, reason)
            written = code if code and name in ready.made.dictionary.coded else "an empty cell"
            counts[reason, written] = counts.get((reason, written), 0) + here.get(reason, 0)
    return tuple((reason, count, written) for (reason, written), count in counts.items())


def note_reasons_without_code(tables: Sequence[tuple[Prepared, Occurring]], step: Export) -> list[Note]:
    """Note reasons without a stated code where others have one: they get the general code."""
    codes = {prepared.missing.everywhere for prepared, _ in tables} - {""}
    by_reason = any(prepared.missing.by_reason for prepared, _ in tables)
    if not by_reason or not codes or any(applies_to_all(word) for word in step.missing_code):
        return []
    counts: Counter[str] = Counter()
    for prepared, occurring in tables:
        for name, column in prepared.before.columns.items():
            here = column.reason_counts()
            for reason in occurring.reasons[name]:
                if (
                    prepared.missing.get_code(name, reason) == prepared.missing.everywhere
                    and reason not in prepared.missing.by_reason
                ):
                    counts[reason] += here.get(reason, 0)
    if not counts:
        return []
    text = Words(
        "no missing code was given for {reasons}: {n:cell} {n:=is|are} written as {codes}.",
        n=counts.total(), reasons=shorten_list(counts), codes=shorten_list(codes),
    )  # fmt: skip
    return [Note(text, kind="without-code", count=counts.total())]


def applies_to_all(text: str) -> bool:
    """Return whether a missing code applies to every cell."""
    return "=" not in text and ":" not in text


def note_unused_codes(tables: Sequence[tuple[Prepared, Occurring]]) -> list[Note]:
    """Note codes stated for reasons that no cell has and no dictionary knows, probably a typing error."""
    stated = dict.fromkeys(reason for prepared, _ in tables for reason in prepared.missing.by_reason)
    found = dict.fromkeys(
        reason for _, occurring in tables for reasons in occurring.reasons.values() for reason in reasons
    )
    declared = {
        reason for prepared, _ in tables for name in prepared.before.names
        for reason in prepared.before.dictionary.of(name).missing.values()
    }  # fmt: skip
    absent = [reason for reason in stated if reason not in found and reason not in declared and reason not in BUILT_IN]
    if not absent:
        return []
    text = f"a missing code was given for {shorten_list(absent)}, but no cell is missing for that reason"
    text += f"; cells are missing for {shorten_list(found)}." if found else "."
    return [Note(text, kind="code-for-nothing", count=len(absent))]


def note_empty_dates(ready: Prepared, occurring: Occurring) -> list[Note]:
    """Note columns of dates with missing cells, which take no code."""
    dates = [
        name
        for name, column in ready.made.columns.items()
        if column.type in ("date", "datetime") and occurring.reasons[name]
    ]
    if not dates or not (ready.missing.everywhere or any(ready.codes.values())):
        return []
    return [Note(f"missing dates are left empty, since a code is not a date: {', '.join(dates)}.", kind="empty-dates")]
