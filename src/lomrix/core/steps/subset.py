"""Subset: choose columns and rows, and count what was left out."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import condition
from lomrix.core.language.parse import names_used, parsed
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.keys import ordered_ranks
from lomrix.core.steps.step import Result, Step
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.selection import chosen_columns, columns_by_name
from lomrix.core.table.table import Table

MOST_LISTED = 12
# A column with more distinct values than this share of the rows names single rows, not cases with several.
CASE_SHARE = 0.9


class Subset(Step):
    """Choose columns and rows.

    Parameters
    ----------
    columns
        Which columns are kept, in the order given; all where empty.
    without
        Which columns are left out; a column that is both chosen and left out is out.
    where
        Expression that is true for the rows that are kept.
    """

    columns: str = ""
    without: str = ""
    where: str = ""

    @property
    def kept_together(self) -> tuple[str, ...]:
        """None: each row is judged on its own."""
        return ()

    def columns_needed(self, place: int, names: list[str]) -> list[str] | None:
        """The columns that are kept, and those that the condition looks at."""
        chosen = columns_by_name(self.columns, names) if self.columns else names
        out = columns_by_name(self.without, names) if self.without else []
        if chosen is None or out is None:
            return None
        kept = [name for name in chosen if name not in out]
        return [*kept, *(names_used(parsed(self.where)) if self.where else ())]

    def apply(self, *tables: Table) -> Result:
        """Choose from the table."""
        (table,) = tables
        types = {**table.types(), **dict.fromkeys(table.unread, "")}
        asked = chosen_columns(self.columns, types, table.name) if self.columns else [*table.names, *table.unread]
        out = set(chosen_columns(self.without, types, table.name)) if self.without else set()
        kept = [name for name in asked if name not in out]
        if not kept:
            raise UsageError("No column is left.", todo="Choose one at least; what is both chosen and left out is out.")
        rows, balance = self._rows(table)
        made = table.only(kept)
        made = made if rows is None else made.take(rows)
        notes = [*self._both(asked, out), *self._lost_distinctions(table, kept, rows)]
        gone = [name for name in types if name not in kept]
        if gone:
            more = f" and {len(gone) - MOST_LISTED} more" if len(gone) > MOST_LISTED else ""
            notes.append(
                Note(f"columns left out: {', '.join(gone[:MOST_LISTED])}{more}.", kind="left-out", count=len(gone))
            )
        account = Account(
            "subset",
            f"{len(made):,} of {len(table):,} rows and {len(kept)} of {len(types)} columns kept.",
            (balance, Balance("columns", len(types), (("kept", len(kept)), ("left out", len(gone))))),
            {"rows": len(made), "columns": kept, "left_out": gone},
            (),
            tuple(notes),
        )
        return Result(made, account)

    def _rows(self, table: Table) -> tuple[npt.NDArray[np.int64] | None, Balance]:
        if not self.where:
            return None, Balance("rows", len(table), (("kept", len(table)),))
        true = condition(self.where, table)
        rows = np.flatnonzero(true.values & ~true.is_missing)
        gone = tuple(
            (f"condition missing ({reason}), left out", count) for reason, count in true.reason_counts().items()
        )
        false = int(np.count_nonzero(~true.values & ~true.is_missing))
        return rows, Balance("rows", len(table), (("kept", len(rows)), ("condition false, left out", false), *gone))

    def _both(self, asked: list[str], out: set[str]) -> list[Note]:
        both = [name for name in asked if name in out]
        if not both or not self.columns:
            return []
        return [Note(f"both chosen and left out, so out: {', '.join(both)}.", kind="both", count=len(both))]

    def _lost_distinctions(self, table: Table, kept: list[str], rows: npt.NDArray[np.int64] | None) -> list[Note]:
        """Columns whose loss leaves rows of one case that nothing tells apart any more, such as the occasion."""
        lost = [name for name in (*table.names, *table.unread) if name not in kept]
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
                column = table.unread[name]() if name in table.unread else table[name]
                together = separated(codes, count, column if rows is None else column.take(rows))
                if together is not None:
                    text = (
                        f"without {name} rows of {counted(together, 'case', 'cases')} of {case} cannot be told apart."
                    )
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
