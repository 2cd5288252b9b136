"""A ledger, and what becomes of each of its rows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Combinable
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import encode_key_pairs
from lomrix.core.steps.account import Kind
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type, is_number
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import Reading
from lomrix.core.text.rules import USUAL_TOKENS

ACTIONS = ("set", "missing", "note", "leave-out")
LEDGER_COLUMNS = ("row", "variable", "old", "new", "action", "why", "by")
NOTED = "in notes"
APPLIED, ALREADY, OPEN, REFUSED = "applied", "already so", "left open", "refused"
KINDS: dict[str, Kind] = {APPLIED: "changed", ALREADY: "kept", OPEN: "open", REFUSED: "refused"}
NO_ROW = "neither key nor row is given"
# What a column of texts becomes if every cell is written as such a value is.
TYPES_OF_TEXTS: tuple[Type, ...] = ("integer", "number", "date", "datetime", "boolean")
SURVEYED = ("string", "number")
# Texts that may mean a missing cell, in capital or small letters.
TOKENS = 4 * len(USUAL_TOKENS)
# What another column becomes; decimals become integers if they were kept from that by cells that are corrected.
OTHER_TYPES: dict[Type, tuple[Type, ...]] = {
    "integer": ("integer", "number"), "number": ("integer", "number"), "date": ("date", "datetime")
}  # fmt: skip


@dataclass(frozen=True)
class Sighting(Combinable):
    """What the rows of a table show about a row of the ledger."""

    with_key: int = 0  # rows with its key
    row: int | None = None  # number of the row that it names, or of the first with its key
    has_key: bool = False  # that row has its key
    current: str | None = None  # the cell, as `read_cells` gives it

    def combine(self, later: Sighting) -> Sighting:
        """Add the rows with the key; the first row that is found stays."""
        found = self if self.row is not None else later
        return Sighting(self.with_key + later.with_key, found.row, found.has_key, found.current)


@dataclass(frozen=True)
class Fit(Combinable):
    """How many cells of a column of texts are values of a type, and which are not (None: too many to be corrected)."""

    values: int
    strays: Mapping[str, int] | None
    most: int

    def combine(self, later: Fit) -> Fit:
        """Count the cells of both parts."""
        strays = None
        if self.strays is not None and later.strays is not None:
            strays = Counter(self.strays) + Counter(later.strays)
            strays = strays if strays.total() <= self.most else None
        return Fit(self.values + later.values, strays, self.most)


@dataclass(frozen=True)
class Survey:
    """What a table shows about each row of the ledger, and of the columns of texts that it corrects."""

    sightings: tuple[Sighting, ...]
    fits: Mapping[str, Mapping[Type, Fit]]


@dataclass(frozen=True)
class Ledger:
    """The rows of a ledger for a table."""

    table: Table

    def __post_init__(self) -> None:
        for name in ("variable", "old", "new"):
            if name not in self.table.columns:
                raise UsageError(
                    f"The ledger has no column {name}.",
                    where=f"its columns are {', '.join(self.table.names)}",
                    todo=f"A ledger has the key, and {', '.join(LEDGER_COLUMNS)}; check makes one with ‹draft_ledger›.",
                )

    def __len__(self) -> int:
        return len(self.table)

    @cached_property
    def cells(self) -> dict[str, list[str | None]]:
        """The cells of each column as text."""
        empty = dict.fromkeys(LEDGER_COLUMNS, [None] * len(self.table))
        return {**empty, **{name: column.cells() for name, column in self.table.columns.items()}}

    @property
    def keys(self) -> list[str]:
        """The key columns."""
        return [name for name in self.table.names if name not in LEDGER_COLUMNS]

    @cached_property
    def numbers(self) -> list[int]:
        """The row of the table that each row names, by the number that its sheet has; -1 for none."""
        return [int(text) if text and text.isascii() and text.isdigit() else -1 for text in self.cells["row"]]

    def number_row(self, index: int) -> int:
        """Return the number of a row of the ledger."""
        return index + self.table.first_row

    def survey(self, source: Table) -> Survey:
        """Find the rows and cells that the ledger is about, and what else is in the columns that may change type."""
        named = [name for name in dict.fromkeys(self.cells["variable"]) if name in source.columns]
        fits = {str(name): self._find_fits(source, str(name)) for name in named if source[str(name)].type in SURVEYED}
        return Survey(tuple(self._find_sightings(source)), fits)

    def _find_sightings(self, source: Table) -> list[Sighting]:
        numbers = source.find_row_numbers(np.arange(len(source)))
        rows = np.searchsorted(numbers, self.numbers)
        is_there = np.append(numbers, -2)[rows] == self.numbers  # -1 stands for no number
        is_numbered = np.array([text is not None for text in self.cells["row"]], np.bool_)
        with_key, has_key = np.zeros(len(self), np.int64), np.zeros(len(self), np.bool_)
        if self.keys:
            codes = encode_key_pairs(source, self.table, tuple((name, name) for name in self.keys))
            counts = np.append(np.bincount(codes.base[codes.base >= 0], minlength=codes.size), 0)
            first = np.full(codes.size + 1, -1, np.int64)
            base = np.flatnonzero(codes.base >= 0)[::-1]
            first[codes.base[base]] = base
            with_key = counts[codes.added]
            rows = np.where(is_numbered, rows, first[codes.added])
            is_there = np.where(is_numbered, is_there, rows >= 0)
            has_key = is_there & (np.append(codes.base, -1)[rows] == codes.added)
        else:
            is_there &= is_numbered
        result = [Sighting(int(count)) for count in with_key]
        for name in dict.fromkeys(self.cells["variable"]):
            about = [index for index in np.flatnonzero(is_there).tolist() if self.cells["variable"][index] == name]
            found = rows[about]
            column = source.columns.get(str(name))
            cells = read_cells(column, found) if column is not None else [None] * len(about)
            for index, row, current in zip(about, numbers[found].tolist(), cells, strict=True):
                result[index] = Sighting(int(with_key[index]), row, bool(has_key[index]), current)
        return result

    def _find_fits(self, source: Table, name: str) -> dict[Type, Fit]:
        column = source[name].compact()
        if column.type == "number":
            return self._find_whole_numbers(column)
        counts = np.bincount(column.values[column.values >= 0], minlength=len(column.strings))
        texts = column.strings.strings
        result: dict[Type, Fit] = {}
        for type_ in list_types("string", source.dictionary.of(name)):
            is_value, is_token = fit_texts(name, texts, source.dictionary.of(name), type_, len(self), is_text=True)
            strays = np.flatnonzero(~is_value & ~is_token)
            many = int(counts[strays].sum()) > len(self)
            cells = None
            if not many:
                cells = dict(zip(texts.take(pa.array(strays)).to_pylist(), counts[strays].tolist(), strict=True))
            result[type_] = Fit(int(counts[is_value].sum()), cells, len(self))
        return result

    def _find_whole_numbers(self, column: Column) -> dict[Type, Fit]:
        values = column.values[~column.is_missing]
        others = values[(values != np.floor(values)) | (np.abs(values) >= 2.0**53)]
        texts = Column.of("number", others).to_text().to_pylist() if len(others) <= len(self) else None
        strays = None if texts is None else Counter(texts)
        return {"integer": Fit(len(values) - len(others), strays, len(self)), "number": Fit(len(values), {}, len(self))}


@dataclass
class Decision:
    """What becomes of each row of a ledger, and so of which cells and rows; rows by number."""

    fates: list[tuple[int, str, str]] = field(default_factory=list)  # row of the ledger, fate, cause
    changes: dict[str, dict[int, tuple[str, str]]] = field(default_factory=dict)  # by variable and row: value, reason
    currents: dict[str, dict[int, str | None]] = field(default_factory=dict)  # what is in these cells
    noted: dict[int, list[str]] = field(default_factory=dict)
    out: dict[int, str] = field(default_factory=dict)
    types: dict[str, Type] = field(default_factory=dict)  # of the columns that change
    entries: dict[tuple[str, int], int] = field(default_factory=dict)

    def count(self, fate: str) -> int:
        """Count the rows of the ledger with that fate."""
        return sum(other == fate for _, other, _ in self.fates)


def decide(ledger: Ledger, source: Table, survey: Survey) -> Decision:
    """Decide about each row of a ledger, in its order; `source` gives names and types of the columns."""
    decision = Decision()
    for index, sighting in enumerate(survey.sightings):
        fate, cause = decide_entry(decision, ledger, source, index, sighting)
        decision.fates.append((index, fate, cause))
    for name, changes in decision.changes.items():
        decision.types[name] = choose_type(source, name, changes, decision.currents[name], survey.fits.get(name))
    return decision


def check(step: Correct, decision: Decision, ledger: Ledger) -> None:
    """Stop if rows of the ledger are refused, and that was not asked for."""
    refused = [(index, cause) for index, fate, cause in decision.fates if fate == REFUSED]
    if refused and not step.partly:
        first = refused[:MOST_EXAMPLES]
        causes = "; ".join(f"ledger row {ledger.number_row(index)}: {cause}" for index, cause in first)
        raise DataError(
            f"{len(refused):,} of {len(ledger):,} rows of the ledger cannot be applied.",
            where=causes + (" …" if len(refused) > MOST_EXAMPLES else ""),
            todo="Correct the ledger, or add ‹partly› to apply the others.",
        )


def find_row(ledger: Ledger, index: int, sighting: Sighting) -> str:
    """Return why there is no row that a row of the ledger is about; an empty text if there is."""
    text = ledger.cells["row"][index]
    has_key = bool(ledger.keys) and all(ledger.cells[name][index] is not None for name in ledger.keys)
    if text is not None and sighting.row is None:
        return f"there is no row {text}"
    if has_key and not sighting.with_key:
        return "the key is not in the file"
    if text is not None:
        return f"row {text} has another key" if has_key and not sighting.has_key else ""
    if not has_key:
        return NO_ROW
    return "" if sighting.with_key == 1 else "the key repeats: name the row"


@dataclass(frozen=True)
class Entry:
    """One row of a ledger, with the cell of the table that it is about."""

    index: int
    row: int
    variable: str
    old: str | None
    new: str | None
    action: str
    why: str | None
    current: str | None

    @property
    def target(self) -> str | None:
        """What the cell is to hold; None if nothing is stated."""
        return f"missing: {self.new}" if self.action == "missing" else self.new

    @property
    def is_done(self) -> bool:
        """True if the cell already holds it."""
        return self.target is not None and self.current in (self.target, f"missing: {self.target}")

    @property
    def difference(self) -> str:
        """How the cell differs from what the ledger says it holds; an empty text if it does not."""
        if is_same(self.current, self.old):
            return ""
        return f"{self.variable} in row {self.row} holds {quote(self.current)}, not {quote(self.old)}"


def decide_entry(decision: Decision, ledger: Ledger, source: Table, index: int, sighting: Sighting) -> tuple[str, str]:
    """Decide about one row of the ledger; return its fate, and the cause if it is refused."""
    variable, old, new, action, why = (
        ledger.cells[name][index] for name in ("variable", "old", "new", "action", "why")
    )
    action, cause = (action or "set").strip(), find_row(ledger, index, sighting)
    if action not in ACTIONS:
        return REFUSED, f'there is no action "{action}"; actions are {", ".join(ACTIONS)}'
    if cause:
        return REFUSED, cause
    if variable not in source.columns and not (action == "leave-out" and variable is None):
        return REFUSED, f"there is no variable {variable}"
    assert sighting.row is not None
    entry = Entry(index, sighting.row, str(variable), old, new, action, why, sighting.current)
    return leave_out(decision, entry) if action == "leave-out" else change_cell(decision, entry)


def leave_out(decision: Decision, entry: Entry) -> tuple[str, str]:
    """Leave out the row that an entry is about, unless its cell differs from what the entry states."""
    if entry.old is not None and entry.difference:
        return REFUSED, entry.difference
    decision.out[entry.row] = entry.why or "no cause given"
    return APPLIED, ""


def change_cell(decision: Decision, entry: Entry) -> tuple[str, str]:
    """Change the cell that an entry is about, unless something speaks against it."""
    if entry.action == "missing" and entry.new is None:
        return REFUSED, "the reason is missing in the column new"
    if entry.is_done:
        return ALREADY, ""
    if entry.action == "set" and entry.new is None:
        return OPEN, ""
    cause = entry.difference or find_conflict(decision, entry)
    if cause:
        return REFUSED, cause
    if entry.action == "note":
        decision.noted.setdefault(entry.row, []).append(f"{entry.variable}: {entry.current}")
    new = entry.new
    change = ("", new or "") if entry.action == "missing" else ("", NOTED) if new is None else (new, "")
    decision.changes.setdefault(entry.variable, {})[entry.row] = change
    decision.currents.setdefault(entry.variable, {})[entry.row] = entry.current
    decision.entries[entry.variable, entry.row] = entry.index
    return APPLIED, ""


def find_conflict(decision: Decision, entry: Entry) -> str:
    """Return why a cell cannot be changed; an empty text if it can."""
    if entry.action == "note" and entry.current is None:
        return f"{entry.variable} in row {entry.row} is blank: there is nothing to note"
    if entry.row in decision.changes.get(entry.variable, {}):
        return f"{entry.variable} in row {entry.row} is corrected twice"
    return ""


# --------------------------------------------------------------------------- types


def list_types(type_: Type, entry: Variable) -> tuple[Type, ...]:
    """Return the types that a column can have once it is corrected, the first that fits before others."""
    if entry.type is not None:
        return OTHER_TYPES[entry.type] if entry.type == "integer" else (entry.type,)
    return TYPES_OF_TEXTS if type_ == "string" else OTHER_TYPES.get(type_, (type_,))


def choose_type(
    source: Table,
    name: str,
    changes: Mapping[int, tuple[str, str]],
    currents: Mapping[int, str | None],
    fits: Mapping[Type, Fit] | None,
) -> Type:
    """Return the type of a corrected column; text if no other type has all its cells."""
    entry, column = source.dictionary.of(name), source[name]
    texts = pa.array([new for new, _ in changes.values() if new], pa.large_string())
    for type_ in list_types(column.type, entry):
        is_text = column.type == "string"
        is_value, is_token = fit_texts(name, texts, entry, type_, len(texts), is_text=is_text)
        if not (is_value | is_token).all():
            continue
        if fits is None:
            return type_
        fit, gone = fits.get(type_), Counter(text for text in currents.values() if text is not None)
        if fit is None or fit.strays is None or Counter(fit.strays) - gone:
            continue
        if not is_text:
            if fit.strays or type_ == column.type:
                return type_
            continue
        values_gone = sum((gone - Counter(fit.strays)).values())
        if fit.values - values_gone + int(is_value.sum()) > 0 or entry.type is not None:
            return type_
    return "string"


def fit_texts(
    name: str, texts: pa.Array, entry: Variable, type_: Type, most: int, *, is_text: bool
) -> tuple[Array, Array]:
    """Return for each text whether it is a value of a type, and whether it means a missing cell.

    Where nobody stated a type, a text such as 1.50 stays text, since it would not survive as a number. Which texts mean
    a missing cell is not found out if more than `most` of them could.
    """
    trimmed = pc.utf8_trim_whitespace(texts)
    if type_ == "string" or not len(texts):
        return np.ones(len(texts), np.bool_), np.zeros(len(texts), np.bool_)
    reading = Reading(name, texts, entry, entry.form)
    values, is_value = reading.parse_as(type_, trimmed)
    if type_ == "integer" and values.dtype != np.int64:
        is_value &= (values == np.floor(values)) & (np.abs(values) < 2.0**53)
        values = np.where(is_value, values, 0)
    if is_text and entry.type is None:
        is_value &= is_written_so(type_, values, texts)
    others = np.flatnonzero(~is_value)
    is_token = np.zeros(len(texts), np.bool_)
    for index in others[: most + TOKENS + len(entry.missing)].tolist():
        is_token[index] = reading.get_reason(trimmed[index].as_py()) is not None
    return is_value, is_token


def is_written_so(type_: Type, values: Array, texts: pa.Array) -> Array:
    """Return for each text whether it is how the value is written, with or without fractions of a second."""
    written = Column.of(type_, values).to_text()
    forms = [written, pc.replace_substring_regex(written, r"\.0+$", "")] if type_ == "datetime" else [written]
    return np.asarray(np.any([pc.equal(form, texts).to_numpy(zero_copy_only=False) for form in forms], axis=0))


# --------------------------------------------------------------------------- cells


def read_cells(column: Column, rows: Array) -> list[str | None]:
    """Return cells as text; a missing cell as its reason, a blank as None."""
    texts = column.take(rows).to_text().to_pylist()
    reasons = column.reason_cells(rows)
    return [
        text if reason is None else None if reason == "blank" else f"missing: {reason}"
        for text, reason in zip(texts, reasons, strict=True)
    ]


def is_same(current: str | None, old: str | None) -> bool:
    """Return whether a cell holds what the ledger says; numbers compare as numbers, a reason by its word."""
    if current is None or old is None:
        return current is None and old in (None, "")
    if current in (old, f"missing: {old}"):
        return True
    return bool(is_number(current) and is_number(old) and float(current) == float(old) and current[0] != "0" != old[0])


def quote(text: str | None) -> str:
    """Quote a cell; a blank in words."""
    return "a blank" if text is None else text if text.startswith("missing: ") else f'"{text}"'
