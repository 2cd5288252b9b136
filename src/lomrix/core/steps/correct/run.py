"""Apply a ledger: settle each of its rows, change the cells, and tell what became of both."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, paired_keys
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.numbers import is_number
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.text.reading import typed_column
from lomrix.core.wording import some_of

ACTIONS = ("set", "missing", "note", "leave-out")
OWN = ("row", "variable", "old", "new", "action", "why", "by")
NOTED = "in notes"
MOST_LISTED = 30
APPLIED, ALREADY, OPEN, REFUSED = "applied", "already so", "left open", "refused"


def corrected(step: Correct, tables: Inputs, wanted: Collection[str]) -> Result:
    """Correct the source by the ledger."""
    ledger = tables.one("ledger")
    work = Correction(step, tables.one(), ledger)
    for place in range(len(ledger)):
        work.take_entry(place)
    refused = [(entry, cause) for entry, fate, cause in work.fates if fate == REFUSED]
    if refused and not step.partly:
        told = "; ".join(f"ledger row {entry + ledger.first_row}: {cause}" for entry, cause in refused[:4])
        raise DataError(
            f"{len(refused):,} of {len(ledger):,} rows of the ledger cannot be applied.",
            where=told + (" …" if len(refused) > 4 else ""),
            todo="Mend the ledger, or add ‹partly› to apply the others.",
        )
    made = work.table()
    settled = tuple(name for name in work.done if tables.one()[name].type == "string" != made[name].type)
    return Result(made, work.account(made), settled=settled)


@dataclass
class Correction:
    """A table and a ledger at work."""

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
                    todo=f"A ledger has the key, and {', '.join(OWN)}; check makes one with ‹draft_ledger›.",
                )
        self.cells = {name: column.cells() for name, column in self.ledger.columns.items()}
        self.keys = [name for name in self.ledger.names if name not in OWN]
        self.rows = self._rows()

    def _rows(self) -> list[tuple[int, str]]:
        """For each ledger row the table's row (-1: none), and why there is none."""
        count = len(self.ledger)
        found = np.full(count, -1, np.int64)
        causes = [""] * count
        if self.keys:
            paired = paired_keys(self.before, self.ledger, tuple((name, name) for name in self.keys))
            counts = np.bincount(paired.base[paired.base >= 0], minlength=paired.size)
            first = np.full(paired.size + 1, -1, np.int64)
            base = np.flatnonzero(paired.base >= 0)[::-1]
            first[paired.base[base]] = base
            found = first[paired.added]
            times = np.append(counts, 0)[paired.added]
            for place in np.flatnonzero(times != 1).tolist():
                repeats = times[place] > 0
                causes[place] = "the key repeats: name the row" if repeats else "the key is not in the file"
                if paired.added[place] < 0:
                    causes[place] = "neither key nor row is named"
        else:
            paired = None
            causes = ["neither key nor row is named"] * count
        for place, text in enumerate(self.cells.get("row", [])):
            if text is None:
                continue
            row = int(text) - self.before.first_row if str(text).isascii() and str(text).isdigit() else -1
            if not 0 <= row < len(self.before):
                causes[place] = f"there is no row {text}"
            elif paired is not None and paired.added[place] >= 0 and paired.base[row] != paired.added[place]:
                if not causes[place].startswith("the key is not"):
                    causes[place] = f"row {text} has another key"
            else:
                found[place], causes[place] = row, ""
        return [(-1 if cause else int(row), cause) for row, cause in zip(found, causes, strict=True)]

    def take_entry(self, place: int) -> None:
        """Settle one row of the ledger: applied, already so, left open, or refused."""
        row, cause = self.rows[place]
        variable, old, new = (self.cells[name][place] for name in ("variable", "old", "new"))
        action = (self.cells.get("action", [None] * len(self.ledger))[place] or "set").strip()
        fate = REFUSED
        if action not in ACTIONS:
            cause = f'there is no action "{action}"; actions are {", ".join(ACTIONS)}'
        elif not cause and variable not in self.before.columns and not (action == "leave-out" and variable is None):
            cause = f"there is no variable {variable}"
        elif not cause and action == "leave-out":
            if old is not None and not same_text(held := self._held(row, str(variable)), old):
                cause = f"{variable} in row {row + self.before.first_row} holds {shown(held)}, not {shown(old)}"
            else:
                whys = self.cells.get("why") or [None] * len(self.ledger)
                self.out[row], fate = whys[place] or "no cause given", APPLIED
        elif not cause:
            fate, cause = self._settle(row, str(variable), old, new, action)
        self.fates.append((place, fate, cause if fate == REFUSED else ""))

    def _settle(self, row: int, variable: str, old: str | None, new: str | None, action: str) -> tuple[str, str]:
        held = self._held(row, variable)
        if action == "missing" and new is None:
            return REFUSED, "the reason is wanting in the column new"
        wanted = f"missing: {new}" if action == "missing" else new
        if wanted is not None and (held == wanted or held == f"missing: {wanted}"):
            return ALREADY, ""
        if new is None and action == "set":
            return OPEN, ""
        if not same_text(held, old):
            return REFUSED, f"{variable} in row {row + self.before.first_row} holds {shown(held)}, not {shown(old)}"
        if action == "note" and held is None:
            return REFUSED, f"{variable} in row {row + self.before.first_row} is blank: there is nothing to note"
        if row in self.changes.get(variable, {}):
            return REFUSED, f"{variable} in row {row + self.before.first_row} is corrected twice"
        if action == "note":
            self.noted.setdefault(row, []).append(f"{variable}: {held}")
        change = ("", new or "") if action == "missing" else (new, "") if new is not None else ("", NOTED)
        self.changes.setdefault(variable, {})[row] = change
        return APPLIED, ""

    def _held(self, row: int, variable: str) -> str | None:
        """The cell as text; a missing cell as its reason, a blank as None."""
        at = np.array([row])
        reason = self.before[variable].reason_cells(at)[0]
        if reason is not None:
            return None if reason == "blank" else f"missing: {reason}"
        text: str = self.before[variable].take(at).to_text().to_pylist()[0]
        return text

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """The corrected table; a column whose stray cells are gone is a number again."""
        columns = dict(self.before.columns)
        for name, changes in self.changes.items():
            columns[name] = self.done[name] = self._corrected(name, changes)
        if self.noted:
            columns[self.step.notes] = self._notes(columns.get(self.step.notes))
        made = self.before.with_columns(columns)
        if not self.out:
            return made
        return made.take(np.setdiff1d(np.arange(len(self.before)), list(self.out)))

    def _corrected(self, name: str, changes: dict[int, tuple[str, str]]) -> Column:
        column = self.before[name]
        rows = np.fromiter(changes, np.int64)
        texts = replaced(column.to_text(), rows, [new or None for new, _ in changes.values()])
        made = self._typed(name, texts)
        if column.type == "string" and made.type != "string" and self.before.dictionary.of(name).type is None:
            # A text such as 1.50 would not come back from a number that nobody stated, nor asked to change.
            there = pa.array(~made.is_missing)
            if not made.to_text().filter(there).equals(texts.filter(there)):
                made = self._typed(name, texts, is_text=True)
        untouched = np.ones(len(column), np.bool_)
        untouched[rows] = False
        result = Column(made.type, made.values, None, (), made.pool)
        reasons: dict[str, list[int]] = {}
        for row, (_, reason) in changes.items():
            if reason:
                reasons.setdefault(reason, []).append(row)
        for reason, own in reasons.items():
            result = result.with_missing(mask(own, len(column)), reason)
        for source, cells in ((column, untouched), (made, made.is_missing)):
            for number, reason in enumerate(source.reasons, start=1):
                if source.why is not None:
                    result = result.with_missing((source.why == number) & cells, reason)
        return result

    def _typed(self, name: str, texts: pa.Array, *, is_text: bool = False) -> Column:
        """Texts as the column that reading makes of them, by what the dictionary states."""
        entry = self.before.dictionary.of(name)
        if is_text:
            entry = entry.with_(type="string")
        return typed_column(name, texts, entry, "" if is_text else entry.form)[0]

    def _notes(self, old: Column | None) -> Column:
        texts = old.widened("string").to_arrow() if old is not None else pa.nulls(len(self.before), pa.large_string())
        rows = np.array(sorted(self.noted), np.int64)
        before = texts.take(pa.array(rows)).to_pylist()
        new = [
            "; ".join([*([had] if had else []), *self.noted[row]])
            for row, had in zip(rows.tolist(), before, strict=True)
        ]
        strings = replaced(texts, rows, new)
        why = strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
        return Column.of_strings(None, Pool(strings), why, ("blank",))

    # ----------------------------------------------------------------- account

    def account(self, made: Table) -> Account:
        """What became of every row of the ledger."""
        parts = tuple(
            (fate, sum(one == fate for _, one, _ in self.fates)) for fate in (APPLIED, ALREADY, OPEN, REFUSED)
        )
        notes = [
            Note(cause, "", ((place + self.ledger.first_row, None),), "refused", 1)
            for place, fate, cause in self.fates
            if fate == REFUSED
        ]
        again = [name for name in self.changes if made[name].type != self.before[name].type]
        notes += [
            Note(f"is {made[name].type} again, was {self.before[name].type}.", name, kind="type", done=True)
            for name in again
        ]
        notes += self._rewritten()
        if parts[2][1]:
            notes.append(
                Note(
                    f"{counted(parts[2][1], 'row of the ledger has', 'rows of the ledger have')} no new value yet.",
                    kind="open",
                    count=parts[2][1],
                )
            )
        return Account(
            "correct",
            f"{parts[0][1]:,} of {len(self.ledger):,} corrections applied.",
            (
                Balance("rows of the ledger", len(self.ledger), parts),
                Balance("rows", len(self.before), (("kept", len(made)), ("left out by the ledger", len(self.out)))),
                self._cells(made),
            ),
            {"changed": {name: len(rows) for name, rows in self.changes.items()}, "retyped": again},
            self._listing(),
            tuple(notes),
            left_out=len(self.out),
        )

    def _cells(self, made: Table) -> Balance:
        """Cells of the rows that are kept: those that the ledger changes, and the others, held against the table."""
        stays = np.setdiff1d(np.arange(len(self.before)), list(self.out))
        told = {name: set(rows) - set(self.out) for name, rows in self.changes.items()}
        if self.noted:
            told.setdefault(self.step.notes, set()).update(set(self.noted) - set(self.out))
        same = 0
        for name, column in self.before.columns.items():
            if made[name] is column:
                same += len(column)
                continue
            kept, now = column.take(stays), made[name]
            equal = same_cells(kept, now)
            if kept.type != now.type:
                equal |= self._read_alike(name, kept, now, told.get(name, set()), stays)
            same += int(np.count_nonzero(equal))
        changed = sum(len(rows) for name, rows in told.items() if name in self.before.columns)
        parts = (("as they were", same), ("corrected", changed))
        return Balance("cells of the rows kept", len(stays) * len(self.before.names), parts, quiet=True)

    def _read_alike(
        self, name: str, before: Column, now: Column, changed: set[int], stays: npt.NDArray[np.int64]
    ) -> npt.NDArray[np.bool_]:
        """Cells that nobody changed and that a column of another type holds as it would read them on their own."""
        others = pa.array(~np.isin(stays, list(changed)))
        texts = pc.if_else(others, before.to_text(), pa.scalar(None, pa.large_string()))
        alone = self._typed(name, texts, is_text=now.type == "string")
        if alone.type != now.type:
            alone = alone.widened(now.type)
        return np.asarray(others) & (same_cells(alone, now) & ~before.is_missing)

    def _rewritten(self) -> list[Note]:
        """New values that a column of numbers writes otherwise, such as 007 among whole numbers."""
        notes = []
        for name, changes in self.changes.items():
            if self.done[name].type not in ("integer", "number"):
                continue
            rows = np.fromiter(changes, np.int64)
            texts = self.done[name].take(rows).to_text().to_pylist()
            pairs = zip(rows.tolist(), texts, changes.values(), strict=True)
            odd = [(row, new, text) for row, text, (new, _) in pairs if new and text not in (None, new)]
            if odd:
                told = some_of((f'"{new}" as {text}' for _, new, text in odd), 4)
                examples = tuple((row + self.before.first_row, text) for row, _, text in odd[:4])
                text = f"is {self.done[name].type}, and holds {told}; if it is an id, give ‹type={name}=string›."
                notes.append(Note(text, name, examples, "rewritten", len(odd)))
        return notes

    def _listing(self) -> tuple[Listing, ...]:
        rows: list[tuple[object, ...]] = []
        for name, changes in self.changes.items():
            texts = self.done[name].take(np.fromiter(changes, np.int64)).to_text().to_pylist()
            for (row, (new, reason)), text in zip(changes.items(), texts, strict=True):
                key = key_texts(self.before, self.keys, np.array([row]))[0] if self.keys else ""
                told = f'"{text or new}"' if new else reason if reason == NOTED else f"missing: {reason}"
                rows.append((row + self.before.first_row, key, name, shown(self._held(row, name)), told))
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


def replaced(texts: pa.Array, rows: npt.NDArray[np.int64], new: Sequence[str | None]) -> pa.Array:
    """An Arrow array of texts with some cells replaced."""
    places = np.arange(len(texts))
    places[rows] = len(texts) + np.arange(len(rows))
    return pa.concat_arrays([texts, pa.array(new, pa.large_string())]).take(pa.array(places))


def mask(rows: list[int], length: int) -> npt.NDArray[np.bool_]:
    """True at the given rows."""
    cells = np.zeros(length, np.bool_)
    cells[rows] = True
    return cells


def same_text(held: str | None, old: str | None) -> bool:
    """True where a cell holds what the ledger says; numbers are compared as numbers, a reason by its word."""
    if held is None or old is None:
        return held is None and old in (None, "")
    if held == old or held == f"missing: {old}":
        return True
    return bool(is_number(held) and is_number(old) and float(held) == float(old) and held[0] != "0" != old[0])


def shown(text: str | None) -> str:
    """A cell in quotation marks; a blank in words."""
    return "a blank" if text is None else text if text.startswith("missing: ") else f'"{text}"'
