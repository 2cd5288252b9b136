"""Choose columns and rows, and tell which rows cannot be told apart any more."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import condition
from lomrix.core.language.scope import Scope
from lomrix.core.rows.keys import ordered_ranks
from lomrix.core.steps.account import Account, Balance, kept_cells
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.steps.subset.settings import Subset
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

MOST_LISTED = 12
# A column with more distinct values than this share of the rows names single rows, not cases with several.
CASE_SHARE = 0.9


def chosen(step: Subset, tables: Inputs, wanted: Collection[str]) -> Result:
    """Choose from the table."""
    table = tables.one()
    # Columns of the source that were not read are known by their names only.
    read = table.types()
    types = {name: read.get(name, "") for name in table.source_names}
    asked = chosen_columns(step.columns, types, table.name) if step.columns else list(types)
    out = set(chosen_columns(step.without, types, table.name)) if step.without else set()
    kept = [name for name in asked if name not in out]
    set_of_kept = set(kept)
    if not kept:
        raise UsageError("No column is left.", todo="Choose one at least; what is both chosen and left out is out.")
    scope = Scope(table, step.case, step.occasion)
    true = condition(step.where, scope) if step.where else None
    rows = None if true is None else np.flatnonzero(true.values & ~true.is_missing)
    made = table.only(kept)
    made = made if rows is None else made.take(rows)
    gone = [name for name in types if name not in set_of_kept]
    account = Account(
        "subset",
        f"{len(made):,} of {len(table):,} rows and {len(kept)} of {len(types)} columns kept.",
        (
            rows_kept(table, made, true),
            Balance("columns", len(types), (("kept", len(made.names)), ("left out", len(gone)))),
            *([kept_cells(table, made)] if rows is None else []),
        ),
        {"rows": len(made), "columns": kept, "left_out": gone},
        (),
        (
            *scope.order_notes,
            *scope.reports,
            *both_said(step, asked, out),
            *lost_distinctions(table, kept, gone, rows),
            *left_out(gone),
        ),
        left_out=len(table) - len(made),
    )
    return Result(made, account)


def rows_kept(table: Table, made: Table, true: Column | None) -> Balance:
    """Rows of the table: those of the result, and those left out, cause by cause."""
    if true is None:
        return Balance("rows", len(table), (("kept", len(made)),))
    false = int(np.count_nonzero(~true.values & ~true.is_missing))
    gone = tuple((f"condition missing ({reason}), left out", count) for reason, count in true.reason_counts().items())
    return Balance("rows", len(table), (("kept", len(made)), ("condition false, left out", false), *gone))


def both_said(step: Subset, asked: Sequence[str], out: set[str]) -> list[Note]:
    """Columns that are both chosen and left out."""
    both = [name for name in asked if name in out]
    if not both or not step.columns:
        return []
    return [Note(f"both chosen and left out, so out: {', '.join(both)}.", kind="both", count=len(both))]


def left_out(gone: Sequence[str]) -> list[Note]:
    """The columns that are left out."""
    if not gone:
        return []
    text = f"columns left out: {some_of(gone)}."
    return [Note(text, kind="left-out", count=len(gone))]


def lost_distinctions(
    table: Table, kept: Sequence[str], gone: Sequence[str], rows: npt.NDArray[np.int64] | None
) -> list[Note]:
    """Columns whose loss leaves rows of one case that nothing tells apart any more, such as the occasion."""
    lost = [name for name in gone if name in table.columns]
    if not lost or not len(table):
        return []
    for case in kept[:MOST_LISTED]:
        if table[case].type in ("number", "boolean"):
            continue
        codes, count = ordered_ranks(table[case] if rows is None else table[case].take(rows))
        if not 1 < count < CASE_SHARE * len(codes):
            continue
        notes = []
        for name in lost:
            column = table[name] if rows is None else table[name].take(rows)
            together = separated(codes, count, column)
            if together is not None:
                text = f"without {name} rows of {counted(together, 'case', 'cases')} of {case} cannot be told apart."
                notes.append(Note(text, name, (), "indistinguishable", together))
        if notes:
            return notes
    return []


def separated(codes: npt.NDArray[np.int64], count: int, column: Column) -> int | None:
    """How many cases have several rows that only this column tells apart; None where it does not tell them apart."""
    if column.type == "number" or column.missing_count:
        return None
    ranks, size = ordered_ranks(column)
    present = codes >= 0
    both, wide = key_codes.combined(codes, count, ranks, max(size, 1))
    both, old = key_codes.dense(both, wide)
    if len(old) < np.count_nonzero(present):
        return None
    return int(np.count_nonzero(np.bincount(codes[present], minlength=count) > 1))
