"""Apply a ledger: decide about each of its rows, change the cells, and report both."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import encode_key_pairs, format_keys
from lomrix.core.steps.account import Account, Balance, Kind, Listing, Part
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.numbers import is_number
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.text.reading import read_text_column
from lomrix.core.wording import shorten_list

ACTIONS = ("set", "missing", "note", "leave-out")
LEDGER_COLUMNS = ("row", "variable", "old", "new", "action", "why", "by")
NOTED = "in notes"
MOST_LISTED = 30
APPLIED, ALREADY, OPEN, REFUSED = "applied", "already so", "left open", "refused"
KINDS: dict[str, Kind] = {APPLIED: "changed", ALREADY: "kept", OPEN: "open", REFUSED: "refused"}


NO_ROW = "neither key nor row is given"


def correct(step: Correct, tables: Inputs, wanted: Collection[str]) -> Result:
    """Correct the source by the ledger."""
    ledger = tables.get_one("ledger")
    correction = Correction(step, tables.get_one(), ledger)
    for index in range(len(ledger)):
        correction.apply_entry(index)
    refused = [(entry, cause) for entry, fate, cause in correction.fates if fate == REFUSED]
    if refused and not step.partly:
        first = refused[:MOST_EXAMPLES]
        causes = "; ".join(f"ledger row {entry + ledger.first_row}: {cause}" for entry, cause in first)
        raise DataError(
            f"{len(refused):,} of {len(ledger):,} rows of the ledger cannot be applied.",
            where=causes + (" …" if len(refused) > MOST_EXAMPLES else ""),
            todo="Correct the ledger, or add ‹partly› to apply the others.",
        )
    result = correction.make_table()
    retyped = tuple(name for name in correction.done if tables.get_one()[name].type == "string" != result[name].type)
    return Result(result, correction.make_account(result), retyped=retyped)


@dataclass(frozen=True)
class LedgerRow:
    """The row of the table that a row of the ledger is about, or the cause why there is none."""

    row: int = -1
    code: int = -1  # of its key, if the key is in the table
    cause: str = ""
    is_unknown: bool = False  # the key is not in the table


@dataclass
class Correction:
    """A table and a ledger being applied to it."""

    step: Correct
    before: Table
    ledger: Table
    changes: dict[str, dict[int, tuple[str, str]]] = field(default_factory=dict)
    noted: dict[int, list[str]] = field(default_factory=dict)
    out: dict[int, str] = field(default_factory=dict)
    done: dict[str, Column] = field(default_factory=dict)
    fates: list[tuple[int, str, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        for name in ("variable", "old", "new"):
            if name not in self.ledger.columns:
                raise UsageError(
                    f"The ledger has no column {name}.",
                    where=f"its columns are {', '.join(self.ledger.names)}",
                    todo=f"A ledger has the key, and {', '.join(LEDGER_COLUMNS)}; check makes one with ‹draft_ledger›.",
                )
        self.cells = {name: column.cells() for name, column in self.ledger.columns.items()}
        self.keys = [name for name in self.ledger.names if name not in LEDGER_COLUMNS]
        self.rows = self._find_rows()

    def _find_rows(self) -> list[LedgerRow]:
        """Find the table's row for each row of the ledger, by key, by row number, or by both if they agree."""
        found = self._find_by_key()
        for index, text in enumerate(self.cells.get("row", [])):
            if text is not None:
                found[index] = self._check_row_number(found[index], str(text))
        return found

    def _find_by_key(self) -> list[LedgerRow]:
        if not self.keys:
            return [LedgerRow(cause=NO_ROW)] * len(self.ledger)
        codes = encode_key_pairs(self.before, self.ledger, tuple((name, name) for name in self.keys))
        counts = np.append(np.bincount(codes.base[codes.base >= 0], minlength=codes.size), 0)
        first = np.full(codes.size + 1, -1, np.int64)
        base = np.flatnonzero(codes.base >= 0)[::-1]
        first[codes.base[base]] = base
        self.row_codes = codes.base
        found = []
        for code in codes.added.tolist():
            if code < 0:
                found.append(LedgerRow(cause=NO_ROW))
            elif counts[code] == 1:
                found.append(LedgerRow(int(first[code]), code))
            else:
                cause = "the key repeats: name the row" if counts[code] else "the key is not in the file"
                found.append(LedgerRow(-1, code if counts[code] else -1, cause, is_unknown=not counts[code]))
        return found

    def _check_row_number(self, found: LedgerRow, text: str) -> LedgerRow:
        """Use a row number, unless it disagrees with the key."""
        row = int(text) - self.before.first_row if text.isascii() and text.isdigit() else -1
        if not 0 <= row < len(self.before):
            return LedgerRow(cause=f"there is no row {text}")
        if found.is_unknown:
            return found
        if found.code >= 0 and self.row_codes[row] != found.code:
            return LedgerRow(cause=f"row {text} has another key")
        return LedgerRow(row)

    def apply_entry(self, index: int) -> None:
        """Decide about one row of the ledger: applied, already so, left open, or refused."""
        row, cause = self.rows[index].row, self.rows[index].cause
        variable, old, new = (self.cells[name][index] for name in ("variable", "old", "new"))
        action = (self.cells.get("action", [None] * len(self.ledger))[index] or "set").strip()
        fate = REFUSED
        if action not in ACTIONS:
            cause = f'there is no action "{action}"; actions are {", ".join(ACTIONS)}'
        elif not cause and variable not in self.before.columns and not (action == "leave-out" and variable is None):
            cause = f"there is no variable {variable}"
        elif not cause and action == "leave-out":
            if old is not None and not is_same(current := self._read_cell(row, str(variable)), old):
                cause = f"{variable} in row {row + self.before.first_row} holds {quote(current)}, not {quote(old)}"
            else:
                whys = self.cells.get("why") or [None] * len(self.ledger)
                self.out[row], fate = whys[index] or "no cause given", APPLIED
        elif not cause:
            fate, cause = self._apply_change(row, str(variable), old, new, action)
        self.fates.append((index, fate, cause if fate == REFUSED else ""))

    def _apply_change(self, row: int, variable: str, old: str | None, new: str | None, action: str) -> tuple[str, str]:
        current = self._read_cell(row, variable)
        if action == "missing" and new is None:
            return REFUSED, "the reason is missing in the column new"
        target = f"missing: {new}" if action == "missing" else new
        if target is not None and (current == target or current == f"missing: {target}"):
            return ALREADY, ""
        if new is None and action == "set":
            return OPEN, ""
        if not is_same(current, old):
            return REFUSED, f"{variable} in row {row + self.before.first_row} holds {quote(current)}, not {quote(old)}"
        if action == "note" and current is None:
            return REFUSED, f"{variable} in row {row + self.before.first_row} is blank: there is nothing to note"
        if row in self.changes.get(variable, {}):
            return REFUSED, f"{variable} in row {row + self.before.first_row} is corrected twice"
        if action == "note":
            self.noted.setdefault(row, []).append(f"{variable}: {current}")
        change = ("", new or "") if action == "missing" else (new, "") if new is not None else ("", NOTED)
        self.changes.setdefault(variable, {})[row] = change
        return APPLIED, ""

    def _read_cell(self, row: int, variable: str) -> str | None:
        """Return the cell as text; a missing cell as its reason, a blank as None."""
        rows = np.array([row])
        reason = self.before[variable].reason_cells(rows)[0]
        if reason is not None:
            return None if reason == "blank" else f"missing: {reason}"
        text: str = self.before[variable].take(rows).to_text().to_pylist()[0]
        return text

    # ------------------------------------------------------------------- table

    def make_table(self) -> Table:
        """Return the corrected table; a column without stray cells is numeric again."""
        columns = dict(self.before.columns)
        for name, changes in self.changes.items():
            columns[name] = self.done[name] = self._correct_column(name, changes)
        if self.noted:
            columns[self.step.notes] = self._make_notes_column(columns.get(self.step.notes))
        result = self.before.with_columns(columns)
        if not self.out:
            return result
        return result.take(np.setdiff1d(np.arange(len(self.before)), list(self.out)))

    def _correct_column(self, name: str, changes: dict[int, tuple[str, str]]) -> Column:
        column = self.before[name]
        rows = np.fromiter(changes, np.int64)
        texts = replace_texts(column.to_text(), rows, [new or None for new, _ in changes.values()])
        typed = self._to_typed(name, texts)
        if column.type == "string" and typed.type != "string" and self.before.dictionary.of(name).type is None:
            # A text such as 1.50 would not survive as a number that nobody declared, or asked to change.
            present = pa.array(~typed.is_missing)
            if not typed.to_text().filter(present).equals(texts.filter(present)):
                typed = self._to_typed(name, texts, is_text=True)
        untouched = np.ones(len(column), np.bool_)
        untouched[rows] = False
        result = Column(typed.type, typed.values, None, (), typed.pool)
        reasons: dict[str, list[int]] = {}
        for row, (_, reason) in changes.items():
            if reason:
                reasons.setdefault(reason, []).append(row)
        for reason, rows_of_reason in reasons.items():
            result = result.with_missing(make_mask(rows_of_reason, len(column)), reason)
        for source, cells in ((column, untouched), (typed, typed.is_missing)):
            for number, reason in enumerate(source.reasons, start=1):
                if source.why is not None:
                    result = result.with_missing((source.why == number) & cells, reason)
        return result

    def _to_typed(self, name: str, texts: pa.Array, *, is_text: bool = False) -> Column:
        """Convert texts to the column that reading would make of them."""
        entry = self.before.dictionary.of(name)
        if is_text:
            entry = entry.with_parts(type="string")
        return read_text_column(name, texts, entry, "" if is_text else entry.form)[0]

    def _make_notes_column(self, old: Column | None) -> Column:
        texts = old.widen("string").to_arrow() if old is not None else pa.nulls(len(self.before), pa.large_string())
        rows = np.array(sorted(self.noted), np.int64)
        before = texts.take(pa.array(rows)).to_pylist()
        new = [
            "; ".join([*([old_text] if old_text else []), *self.noted[row]])
            for row, old_text in zip(rows.tolist(), before, strict=True)
        ]
        strings = replace_texts(texts, rows, new)
        why = strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
        return Column.of_strings(None, Pool(strings), why, ("blank",))

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report what became of every row of the ledger."""
        counts = {fate: sum(entry_fate == fate for _, entry_fate, _ in self.fates) for fate in KINDS}
        parts = tuple(Part(kind, counts[fate], "ledger-row") for fate, kind in KINDS.items())
        notes = [
            Note(cause, "", ((index + self.ledger.first_row, None),), "refused", 1)
            for index, fate, cause in self.fates
            if fate == REFUSED
        ]
        retyped = [name for name in self.changes if result[name].type != self.before[name].type]
        notes += [
            Note(f"is {result[name].type} again, was {self.before[name].type}.", name, kind="type", done=True)
            for name in retyped
        ]
        notes += self._note_rewritten()
        if counts[OPEN]:
            notes.append(
                Note(
                    f"{pluralize(counts[OPEN], 'row of the ledger has', 'rows of the ledger have')} no new value yet.",
                    kind="open",
                    count=counts[OPEN],
                )
            )
        return Account(
            "correct",
            f"{counts[APPLIED]:,} of {len(self.ledger):,} corrections applied.",
            (
                Balance("rows of the ledger", len(self.ledger), parts),
                Balance(
                    "rows", len(self.before), (Part("kept", len(result)), Part("left out", len(self.out), "ledger"))
                ),
                self._balance_cells(result),
            ),
            {"changed": {name: len(rows) for name, rows in self.changes.items()}, "retyped": retyped},
            self._list_corrections(),
            tuple(notes),
        )

    def _balance_cells(self, result: Table) -> Balance:
        """Balance the cells of the kept rows: those changed by the ledger, and the others, compared with the table."""
        kept_rows = np.setdiff1d(np.arange(len(self.before)), list(self.out))
        changed_rows = {name: set(rows) - set(self.out) for name, rows in self.changes.items()}
        if self.noted:
            changed_rows.setdefault(self.step.notes, set()).update(set(self.noted) - set(self.out))
        same = 0
        for name, column in self.before.columns.items():
            if result[name] is column:
                same += len(column)
                continue
            kept, now = column.take(kept_rows), result[name]
            equal = same_cells(kept, now)
            if kept.type != now.type:
                equal |= self._equal_after_retyping(name, kept, now, changed_rows.get(name, set()), kept_rows)
            same += int(np.count_nonzero(equal))
        changed = sum(len(rows) for name, rows in changed_rows.items() if name in self.before.columns)
        parts = (Part("kept", same, "unchanged"), Part("changed", changed))
        return Balance("cells of the rows kept", len(kept_rows) * len(self.before.names), parts, quiet=True)

    def _equal_after_retyping(
        self, name: str, before: Column, now: Column, changed: set[int], kept_rows: npt.NDArray[np.int64]
    ) -> npt.NDArray[np.bool_]:
        """Return unchanged cells that a column of another type holds as it would read them on their own."""
        others = pa.array(~np.isin(kept_rows, list(changed)))
        texts = pc.if_else(others, before.to_text(), pa.scalar(None, pa.large_string()))
        typed = self._to_typed(name, texts, is_text=now.type == "string")
        if typed.type != now.type:
            typed = typed.widen(now.type)
        return np.asarray(others) & (same_cells(typed, now) & ~before.is_missing)

    def _note_rewritten(self) -> list[Note]:
        """Note new values that a numeric column stores differently, such as 007 as 7."""
        notes = []
        for name, changes in self.changes.items():
            if self.done[name].type not in ("integer", "number"):
                continue
            rows = np.fromiter(changes, np.int64)
            texts = self.done[name].take(rows).to_text().to_pylist()
            pairs = zip(rows.tolist(), texts, changes.values(), strict=True)
            rewritten = [(row, new, text) for row, text, (new, _) in pairs if new and text not in (None, new)]
            if rewritten:
                shown_pairs = shorten_list((f'"{new}" as {text}' for _, new, text in rewritten), MOST_EXAMPLES)
                examples = tuple((row + self.before.first_row, text) for row, _, text in rewritten[:MOST_EXAMPLES])
                text = f"is {self.done[name].type}, and holds {shown_pairs}; if it is an id, give ‹type={name}=string›."
                notes.append(Note(text, name, examples, "rewritten", len(rewritten)))
        return notes

    def _list_corrections(self) -> tuple[Listing, ...]:
        rows: list[tuple[object, ...]] = []
        for name, changes in self.changes.items():
            texts = self.done[name].take(np.fromiter(changes, np.int64)).to_text().to_pylist()
            for (row, (new, reason)), text in zip(changes.items(), texts, strict=True):
                key = format_keys(self.before, self.keys, np.array([row]))[0] if self.keys else ""
                new_text = f'"{text or new}"' if new else reason if reason == NOTED else f"missing: {reason}"
                rows.append((row + self.before.first_row, key, name, quote(self._read_cell(row, name)), new_text))
        rows += [
            (row + self.before.first_row, "", "whole row", "", f"left out: {why}") for row, why in self.out.items()
        ]
        if not rows:
            return ()
        title, shown_rows = "corrections", rows
        if self.step.list == "first" and len(rows) > MOST_LISTED:
            shown_rows = rows[:MOST_LISTED]
            title = f"corrections, the first {MOST_LISTED} of {len(rows):,}; ‹list=all› shows them all"
        return (Listing(title, ("row", "key", "variable", "old", "new"), tuple(shown_rows)),)


def replace_texts(texts: pa.Array, rows: npt.NDArray[np.int64], new: Sequence[str | None]) -> pa.Array:
    """Replace some cells of an Arrow array of texts."""
    positions = np.arange(len(texts))
    positions[rows] = len(texts) + np.arange(len(rows))
    return pa.concat_arrays([texts, pa.array(new, pa.large_string())]).take(pa.array(positions))


def make_mask(rows: list[int], length: int) -> npt.NDArray[np.bool_]:
    """Return a mask that is True at the given rows."""
    cells = np.zeros(length, np.bool_)
    cells[rows] = True
    return cells


def is_same(current: str | None, old: str | None) -> bool:
    """Return whether a cell holds what the ledger says; numbers compare as numbers, a reason by its word."""
    if current is None or old is None:
        return current is None and old in (None, "")
    if current == old or current == f"missing: {old}":
        return True
    return bool(is_number(current) and is_number(old) and float(current) == float(old) and current[0] != "0" != old[0])


def quote(text: str | None) -> str:
    """Quote a cell; a blank in words."""
    return "a blank" if text is None else text if text.startswith("missing: ") else f'"{text}"'
