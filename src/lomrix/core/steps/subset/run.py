"""Choose columns and rows, and note rows that cannot be distinguished any more."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.scope import Scope
from lomrix.core.rows.keys import rank_cells
from lomrix.core.steps.account import Account, Balance, Part, balance_values
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.steps.subset.settings import Subset
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

MOST_LISTED = 12
# A column with more distinct values than this share of the rows identifies rows, not cases.
CASE_SHARE = 0.9


def subset(step: Subset, tables: Inputs, wanted: Collection[str]) -> Result:
    """Choose columns and rows."""
    table = tables.get_one()
    # Columns of the source that were not read are known by their names only.
    read = table.types()
    types = {name: read.get(name, "") for name in table.source_names}
    stated = choose_columns(step.columns, types, table.name) if step.columns else list(types)
    excluded = set(choose_columns(step.without, types, table.name)) if step.without else set()
    kept = [name for name in stated if name not in excluded]
    set_of_kept = set(kept)
    if not kept:
        raise UsageError(
            "No column is left.", todo="Choose at least one; a column both chosen and left out is left out."
        )
    scope = Scope(table, step.case, step.occasion)
    is_true = evaluate_condition(step.where, scope) if step.where else None
    rows = None if is_true is None else np.flatnonzero(is_true.values & ~is_true.is_missing)
    result = table.only(kept)
    result = result if rows is None else result.take(rows)
    left_out_names = [name for name in types if name not in set_of_kept]
    account = Account(
        "subset",
        f"{len(result):,} of {len(table):,} rows and {len(kept)} of {len(types)} columns kept.",
        (
            balance_rows(table, result, is_true),
            Balance("columns", len(types), (Part("kept", len(result.names)), Part("left out", len(left_out_names)))),
            *([balance_values(table, result)] if rows is None else []),
        ),
        {"rows": len(result), "columns": kept, "left_out": left_out_names},
        (),
        (
            *scope.order_notes,
            *scope.reports,
            *note_contradictions(step, stated, excluded),
            *note_lost_distinctions(table, kept, left_out_names, rows),
            *note_left_out(left_out_names),
        ),
    )
    return Result(result, account)


def balance_rows(table: Table, result: Table, is_true: Column | None) -> Balance:
    """Balance the rows of the table: kept, and left out by cause."""
    if is_true is None:
        return Balance("rows", len(table), (Part("kept", len(result)),))
    false_count = int(np.count_nonzero(~is_true.values & ~is_true.is_missing))
    missing_parts = tuple(
        Part("left out", count, "condition-missing", reason=reason) for reason, count in is_true.reason_counts().items()
    )
    return Balance(
        "rows",
        len(table),
        (Part("kept", len(result)), Part("left out", false_count, "condition-false"), *missing_parts),
    )


def note_contradictions(step: Subset, stated: Sequence[str], excluded: set[str]) -> list[Note]:
    """Note columns that are both chosen and left out."""
    both = [name for name in stated if name in excluded]
    if not both or not step.columns:
        return []
    return [Note(f"both chosen and left out, so left out: {', '.join(both)}.", kind="both", count=len(both))]


def note_left_out(names: Sequence[str]) -> list[Note]:
    """Note the columns that are left out."""
    if not names:
        return []
    text = f"columns left out: {shorten_list(names)}."
    return [Note(text, kind="left-out", count=len(names))]


def note_lost_distinctions(
    table: Table, kept: Sequence[str], left_out_names: Sequence[str], rows: npt.NDArray[np.int64] | None
) -> list[Note]:
    """Note columns without which rows of one case cannot be distinguished, such as the occasion."""
    lost = [name for name in left_out_names if name in table.columns]
    if not lost or not len(table):
        return []
    for case in kept[:MOST_LISTED]:
        if table[case].type in ("number", "boolean"):
            continue
        codes, count = rank_cells(table[case] if rows is None else table[case].take(rows))
        if not 1 < count < CASE_SHARE * len(codes):
            continue
        notes = []
        for name in lost:
            column = table[name] if rows is None else table[name].take(rows)
            case_count = count_separated(codes, count, column)
            if case_count is not None:
                text = f"without {name} rows of {pluralize(case_count, 'case')} of {case} cannot be distinguished."
                notes.append(Note(text, name, (), "indistinguishable", case_count))
        if notes:
            return notes
    return []


def count_separated(codes: npt.NDArray[np.int64], count: int, column: Column) -> int | None:
    """Return how many cases have several rows that only this column distinguishes; None if it does not."""
    if column.type == "number" or column.missing_count:
        return None
    ranks, size = rank_cells(column)
    present = codes >= 0
    pairs, size_of_pairs = key_codes.combine_codes(codes, count, ranks, max(size, 1))
    pairs, old = key_codes.compact_codes(pairs, size_of_pairs)
    if len(old) < np.count_nonzero(present):
        return None
    return int(np.count_nonzero(np.bincount(codes[present], minlength=count) > 1))
