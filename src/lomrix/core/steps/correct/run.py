"""Correct a table by a ledger, and report what became of each of its rows."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.rows.keys import format_keys
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.correct.ledger import (
    APPLIED,
    KINDS,
    NOTED,
    OPEN,
    REFUSED,
    Decision,
    Ledger,
    Survey,
    check,
    decide,
    quote,
)
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column, choose_cells
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.text.reading import read_text_column
from lomrix.core.text.values import make_mask
from lomrix.core.wording import shorten_list

MOST_LISTED = 30
# In place of a variable.
WHOLE_ROW = ""


def survey(step: Correct, tables: Inputs) -> Survey:
    """Find what the ledger is about."""
    return Ledger(tables.get_one("ledger")).survey(tables.get_one())


def check_ledger(step: Correct, tables: Inputs, whole: Survey) -> None:
    """Stop if rows of the ledger cannot be applied."""
    ledger = Ledger(tables.get_one("ledger"))
    check(step, decide(ledger, tables.get_one(), whole), ledger)


def correct(step: Correct, tables: Inputs, wanted: Collection[str], whole: Survey | None = None) -> Result:
    """Correct the source by the ledger; `whole` is the survey of all parts."""
    source, ledger = tables.get_one(), Ledger(tables.get_one("ledger"))
    decision = decide(ledger, source, whole or ledger.survey(source))
    if whole is None:
        check(step, decision, ledger)
    correction = Correction(step, source, decision)
    result = correction.make_table()
    retyped = tuple(name for name in decision.types if source[name].type == "string" != decision.types[name])
    return Result(result, correction.make_account(result), retyped=retyped, tally=correction.make_tally(ledger))


@dataclass(frozen=True)
class Corrected:
    """A corrected cell or row, as it is listed, and the text it got if that is not the ledger's."""

    listed: tuple[object, ...]
    row: int
    rewritten: tuple[str, str] | None = None


@dataclass(frozen=True)
class Tally:
    """What was corrected in a part, by variable and row; what holds for the whole."""

    corrected: Mapping[tuple[str, int], Corrected]
    decision: Decision
    ledger: Ledger
    before: Mapping[str, str]  # types


@dataclass
class Correction:
    """A table, or a part of one, being corrected."""

    step: Correct
    before: Table
    decision: Decision
    columns: dict[str, Column] = field(default_factory=dict)  # those that are corrected
    untouched: dict[str, Column] = field(default_factory=dict)  # the same before any cell changes, in their new type

    def __post_init__(self) -> None:
        self.numbers = self.before.find_row_numbers(np.arange(len(self.before)))
        self.kept_rows = np.flatnonzero(~np.isin(self.numbers, list(self.decision.out)))
        self.rows = {name: self._find_here(changes) for name, changes in self.decision.changes.items()}

    def _find_here(self, numbers: Iterable[int]) -> Array:
        """Return the positions of those rows that are in this part, in the order given."""
        wanted = np.fromiter(numbers, np.int64)
        rows = np.searchsorted(self.numbers, wanted)
        found: Array = rows[np.append(self.numbers, -1)[rows] == wanted]
        return found

    def make_table(self) -> Table:
        """Return the corrected table; a column without stray cells is numeric again."""
        for name, type_ in self.decision.types.items():
            self.untouched[name] = self._to_type(name, type_)
            self.columns[name] = self._put_cells(name, type_)
        columns = {**self.before.columns, **self.columns}
        if self.decision.noted:
            columns[self.step.notes] = self._make_notes_column(columns.get(self.step.notes))
        result = self.before.with_columns(columns)
        return result if len(self.kept_rows) == len(self.before) else result.take(self.kept_rows)

    def _list_changes(self, name: str) -> list[tuple[str, str]]:
        """Return what each changed cell of this part becomes: a value, or a reason."""
        changes = self.decision.changes[name]
        return [changes[number] for number in self.numbers[self.rows[name]].tolist()]

    def _to_type(self, name: str, type_: str) -> Column:
        """Return the column in its new type; cells that change and have no such value are blank."""
        column, entry = self.before[name], self.before.dictionary.of(name).with_parts(type=type_)
        is_changed = make_mask(self.rows[name], len(column))
        if (column.type, type_) == ("number", "integer"):
            return column.with_missing(is_changed, "blank").widen("integer")
        if column.type != "string" or type_ == "string":
            return column.widen(entry.type or column.type)
        texts = pa.compute.if_else(pa.array(is_changed), pa.scalar(None, pa.large_string()), column.to_text())
        return read_text_column(name, texts, entry, entry.form)[0].with_missing_of(column)

    def _put_cells(self, name: str, type_: str) -> Column:
        column, rows, changes = self.untouched[name], self.rows[name], self._list_changes(name)
        entry = self.before.dictionary.of(name).with_parts(type=type_)
        texts = pa.array([new or None for new, _ in changes], pa.large_string())
        new = read_text_column(name, texts, entry, "" if type_ == "string" else entry.form)[0]
        reasons = np.array([reason for _, reason in changes], np.str_)
        new = new.clear_missing(reasons != "")
        for reason in dict.fromkeys(reason for _, reason in changes if reason):
            new = new.with_missing(reasons == reason, reason)
        positions = np.full(len(column), -1)
        positions[rows] = np.arange(len(rows))
        return choose_cells(column, new.take_or(positions, "blank"), positions >= 0)

    def _make_notes_column(self, old: Column | None) -> Column:
        rows = np.sort(self._find_here(self.decision.noted))
        positions = np.full(len(self.before), -1)
        positions[rows] = np.arange(len(rows))
        column = Column.all_missing("string", len(self.before), "blank") if old is None else old.widen("string")
        noted = [self.decision.noted[number] for number in self.numbers[rows].tolist()]
        texts = [
            "; ".join([*([text] if text else []), *new]) for text, new in zip(column.cells(rows), noted, strict=True)
        ]
        new = Column.of_strings(None, Pool.of(texts)).take_or(positions, "blank")
        return choose_cells(column, new, positions >= 0)

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Balance the rows, and the cells of the rows kept."""
        left_out = len(self.before) - len(self.kept_rows)
        rows = Balance("rows", len(self.before), (Part("kept", len(result)), Part("left out", left_out, "ledger")))
        return Account("correct", "", (rows, self._balance_cells(result)))

    def _balance_cells(self, result: Table) -> Balance:
        """Balance the cells of the kept rows: those changed by the ledger, and the others, compared with the table."""
        changed = {name: make_mask(rows, len(self.before)) for name, rows in self.rows.items()}
        notes = self.step.notes
        if self.decision.noted and notes in self.before.columns:
            mask = make_mask(self._find_here(self.decision.noted), len(self.before))
            changed[notes] = changed[notes] | mask if notes in changed else mask
        same = touched = 0
        untouched = np.zeros(len(self.before), np.bool_)
        for name, column in self.before.columns.items():
            if result[name] is column:
                same += len(column)
                continue
            is_changed = changed.get(name, untouched)[self.kept_rows]
            before = self.untouched.get(name, column).widen(result[name].type).take(self.kept_rows)
            same += int(np.count_nonzero(same_cells(before, result[name]) & ~is_changed))
            touched += int(np.count_nonzero(is_changed))
        parts = (Part("kept", same, "unchanged"), Part("changed", touched))
        return Balance("cells of the rows kept", len(self.kept_rows) * len(self.before.names), parts, quiet=True)

    def make_tally(self, ledger: Ledger) -> Tally:
        """Return the corrected cells and rows of this part."""
        corrected = {}
        for name, rows in self.rows.items():
            texts = self.columns[name].take(rows).to_text().to_pylist()
            numbers, keys = self.numbers[rows].tolist(), self._format_keys(ledger, rows)
            for row, key, text, (new, reason) in zip(numbers, keys, texts, self._list_changes(name), strict=True):
                new_text = f'"{text or new}"' if new else reason if reason == NOTED else f"missing: {reason}"
                listed = (row, key, name, quote(self.decision.currents[name][row]), new_text)
                corrected[name, row] = Corrected(listed, row, (new, text) if new and text not in (None, new) else None)
        rows = self._find_here(self.decision.out)
        for row, key in zip(self.numbers[rows].tolist(), self._format_keys(ledger, rows), strict=True):
            listed = (row, key, "whole row", "", f"left out: {self.decision.out[row]}")
            corrected[WHOLE_ROW, row] = Corrected(listed, row)
        return Tally(corrected, self.decision, ledger, self.before.types())

    def _format_keys(self, ledger: Ledger, rows: Array) -> list[str]:
        return format_keys(self.before, ledger.keys, rows) if ledger.keys else [""] * len(rows)


def conclude(step: Correct, account: Account, tallies: Sequence[Tally]) -> Account:
    """Report what became of every row of the ledger."""
    decision, ledger, types = tallies[0].decision, tallies[0].ledger, tallies[0].before
    corrected = {key: value for tally in tallies for key, value in tally.corrected.items()}
    counts = {fate: decision.count(fate) for fate in KINDS}
    parts = tuple(Part(kind, counts[fate], "ledger-row") for fate, kind in KINDS.items())
    retyped = [name for name, type_ in decision.types.items() if type_ != types[name]]
    notes = [
        Note(cause, "", ((ledger.number_row(index), None),), "refused", 1)
        for index, fate, cause in decision.fates
        if fate == REFUSED
    ]
    for name in retyped:
        again = "again" if types[name] == "string" or decision.types[name] == "integer" else "now"
        notes.append(Note(f"is {decision.types[name]} {again}, was {types[name]}.", name, kind="type", done=True))
    for name in decision.changes:
        notes += note_rewritten(name, decision, corrected)
    if counts[OPEN]:
        text = f"{pluralize(counts[OPEN], 'row of the ledger has', 'rows of the ledger have')} no new value yet."
        notes.append(Note(text, kind="open", count=counts[OPEN]))
    return replace(
        account,
        summary=f"{counts[APPLIED]:,} of {len(ledger):,} corrections applied.",
        balances=(Balance("rows of the ledger", len(ledger), parts), *account.balances),
        facts={"changed": {name: len(rows) for name, rows in decision.changes.items()}, "retyped": retyped},
        listings=list_corrections(step, decision, corrected),
        notes=tuple(notes),
    )


def note_rewritten(name: str, decision: Decision, corrected: Mapping[tuple[str, int], Corrected]) -> list[Note]:
    """Note new values that a numeric column stores differently, such as 007 as 7."""
    type_ = decision.types[name]
    rewritten = [
        (row, cell.rewritten) for row in decision.changes[name] if (cell := corrected[name, row]).rewritten is not None
    ]
    if type_ not in ("integer", "number") or not rewritten:
        return []
    shown_pairs = shorten_list((f'"{new}" as {text}' for _, (new, text) in rewritten), MOST_EXAMPLES)
    examples = tuple((row, text) for row, (_, text) in rewritten[:MOST_EXAMPLES])
    text = f"is {type_}, and holds {shown_pairs}; if it is an id, give ‹type={name}=string›."
    return [Note(text, name, examples, "rewritten", len(rewritten))]


def list_corrections(
    step: Correct, decision: Decision, corrected: Mapping[tuple[str, int], Corrected]
) -> tuple[Listing, ...]:
    """List the corrected cells by variable in the order of the ledger, then the rows that were left out."""
    rows = [corrected[name, row].listed for name, changes in decision.changes.items() for row in changes]
    rows += [corrected[WHOLE_ROW, row].listed for row in decision.out]
    if not rows:
        return ()
    title = "corrections"
    if step.list == "first" and len(rows) > MOST_LISTED:
        title = f"corrections, the first {MOST_LISTED} of {len(rows):,}; ‹list=all› shows them all"
        rows = rows[:MOST_LISTED]
    return (Listing(title, ("row", "key", "variable", "old", "new"), tuple(rows)),)
