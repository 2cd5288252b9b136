"""Remove names, replace the id, shift dates, coarsen ages, and note what may still identify people."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.types import Rows
from lomrix.core.combining import MOST_EXAMPLES, Words, combine_all
from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.parse import find_names, parse
from lomrix.core.rows.distinct_sample import DistinctSample
from lomrix.core.rows.keys import Groups, find_group_starts, group_rows
from lomrix.core.rows.sorting import sort_rows
from lomrix.core.steps.account import Account, Balance, Part, balance_values
from lomrix.core.steps.deidentify.identifying import GroupSizes, RemovedTexts, note_identifying, sample_values
from lomrix.core.steps.deidentify.settings import NEW_IDS, Deidentify
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable


def survey(step: Deidentify, tables: Inputs) -> RemovedTexts:
    """List the texts that should be gone."""
    table = tables.get_one()
    return RemovedTexts.of(table, [*choose_removed(step, table), step.id])


def prepare(step: Deidentify, tables: Inputs) -> Table:
    """Return the table with the new ids, in whose order its rows will be."""
    table, secret = tables.get_one(), tables.get_one("seed")["secret"].first_text() or ""
    if NEW_IDS in table.columns:
        return table
    groups = group_rows(table, (step.id,))
    new_ids = Column.of_strings(None, Pool.of(make_ids(list_old_ids(groups.values[step.id]), secret)))
    # Without names_in_source: it is the same table, with one more column.
    return replace(table, columns={**table.columns, NEW_IDS: new_ids.take_or(groups.codes, "blank")})


def deidentify(step: Deidentify, tables: Inputs, wanted: Collection[str], whole: RemovedTexts | None = None) -> Result:
    """Deidentify the table; the linkage file is an extra. `whole` has the removed texts of all parts."""
    prepared, secret = prepare(step, tables), tables.get_one("seed")["secret"].first_text() or ""
    # The order of the rows could identify people too, so rows are sorted by new id.
    table = prepared.take(sort_rows(prepared, (NEW_IDS,))[0])
    new_ids = table[NEW_IDS]
    table = replace(table, columns={name: column for name, column in table.columns.items() if name != NEW_IDS})
    return Deidentification(step, secret, new_ids, whole or survey(step, tables)).run(table)


def choose_removed(step: Deidentify, table: Table) -> list[str]:
    """Return the columns to remove.

    Raises UsageError if the id is among them.
    """
    removed = choose_columns(step.remove, table.types(), table.name) if step.remove else []
    if step.id in removed:
        raise UsageError("The id is replaced, so it cannot be removed too.", todo="Leave it out of ‹remove›.")
    return removed


def list_old_ids(column: Column) -> list[str]:
    """Return ids as texts, the same whether they were read as integers or as decimals."""
    return [text.removesuffix(".0") for text in column.to_text().to_pylist()]


@dataclass(frozen=True)
class Tally:
    """What the account says of a part; the parts are in the order of the result."""

    rows: int
    cases: int
    types: Mapping[str, str]  # of the columns that may identify people
    values: Mapping[str, DistinctSample]  # of these columns
    removed: Sequence[str]  # columns, and the id
    left: Mapping[tuple[str, int], tuple[int, Sequence[int]]]  # by column and removed column: cells, the first rows
    groups: GroupSizes | None


@dataclass(frozen=True)
class Deidentification:
    """A table being deidentified, with the secret that new ids and shifts derive from, and the new id of each row."""

    step: Deidentify
    secret: str
    new_ids: Column
    removed_texts: RemovedTexts

    def run(self, table: Table) -> Result:
        """Return the deidentified table, its account, and the linkage; rows are in the order of the new ids."""
        step = self.step
        removed = choose_removed(step, table)
        shifted = choose_columns(step.shift, table.types(), table.name) if step.shift else []
        for name in removed:
            if name in shifted or name in dict(step.bands):
                raise UsageError(f"{name} is removed, so it cannot be changed too.", todo="Name it once.")
        groups = group_rows(table, (step.id,))
        self._require_distinct(groups)
        columns = {name: column for name, column in table.columns.items() if name not in removed}
        columns[step.id] = self.new_ids
        days = make_shifts(list_old_ids(groups.values[step.id]), self.secret)
        for name in shifted:
            columns[name] = shift_dates(columns[name], groups.codes, days, name)
        for name, width in step.bands:
            columns[name] = make_age_bands(table[name], width, step.on_day, name)
        result = self._describe(table.with_columns(columns), shifted)
        linkage = self._make_linkage(table, groups.codes, removed, days if shifted else None)
        return Result(
            replace(result, row_numbers=None),
            self._make_account(table, result, removed, shifted, groups.count),
            {"linkage": linkage},
            tally=self._make_tally(result, removed, shifted, groups.count),
        )

    def _require_distinct(self, groups: Groups) -> None:
        """Stop if two ids got the same new id."""
        first = find_group_starts(groups.codes, groups.count)
        if len(self.new_ids.take(first).compact().strings) < groups.count:
            raise DataError("Two ids got the same new id.", todo="Use another seed file.")

    def _describe(self, result: Table, shifted: Sequence[str]) -> Table:
        """Keep only dictionary entries that say nothing about values of a removed or replaced column."""
        dictionary = result.dictionary
        for name, _ in self.step.bands:
            label = f"{dictionary.of(name).label or name}, as age in bands of years on {self.step.on_day}"
            dictionary = dictionary.with_variable(name, Variable(label=label, unit="years"))
        for name in (self.step.id, *shifted):
            entry = dictionary.of(name)
            kept_entry = Variable(label=entry.label, description=entry.description, unit=entry.unit, level=entry.level)
            dictionary = dictionary.with_variable(name, kept_entry)
        unchanged = set(result.names) - {self.step.id, *shifted, *(name for name, _ in self.step.bands)}
        rules = {name: rule for name, rule in dictionary.rules.items() if set(find_names(parse(rule))) <= unchanged}
        dictionary = replace(dictionary.for_columns(result.names), rules=rules, other_layout=None)
        return replace(result, dictionary=dictionary)

    def _make_linkage(self, table: Table, codes: Codes, removed: list[str], shifts: Rows | None) -> Table:
        """Return one row for each row with an id: new id, old id, removed columns, days of the shift."""
        rows = np.flatnonzero(codes >= 0)
        if not removed:
            _, firsts = np.unique(codes[rows], return_index=True)
            rows = rows[np.sort(firsts)]
        columns = {f"new_{self.step.id}": self.new_ids.take(rows), self.step.id: table[self.step.id].take(rows)}
        columns |= {name: table[name].take(rows) for name in removed}
        if shifts is not None:
            columns["shifted_days"] = Column.of("integer", shifts[codes[rows]])
        return Table(columns, table.dictionary.for_columns(columns), name="linkage")

    # ----------------------------------------------------------------- account

    def _make_account(self, table: Table, result: Table, removed: list[str], shifted: list[str], cases: int) -> Account:
        new, without_id = len(result) - result[self.step.id].missing_count, table[self.step.id].missing_count
        kept = [name for name in result.names if name not in shifted]
        coarsened = [name for name, _ in self.step.bands]
        summary = "{cases:id} of {id} became {cases:=a new one|new ones}, the same in every file of this secret."
        return Account(
            "deidentify",
            Words(summary, cases=cases, id=self.step.id),
            (
                Balance("rows", len(table), (Part("changed", new, "new-id"), Part("kept", without_id, "no-id"))),
                Balance("columns", len(table.names), (Part("kept", len(result.names)), Part("left out", len(removed)))),
                balance_values(table.only(kept), result.only(kept)),
            ),
            {"cases": cases, "removed": removed, "shifted": shifted, "coarsened": coarsened},
            notes=tuple(self._note_changes(removed, shifted, without_id)),
        )

    def _note_changes(self, removed: list[str], shifted: list[str], without_id: int) -> Iterator[Note]:
        """Note what was done."""
        if removed:
            yield Note(f"removed: {', '.join(removed)}.", kind="removed", count=len(removed), done=True)
        yield Note("rows are sorted by the new ids.", kind="order", done=True)
        text = Words("{n:row} without an id: the linkage file does not include them.", n=without_id)
        yield Note(text, self.step.id, (), "no-id", without_id)
        if shifted:
            names = ", ".join(shifted)
            yield Note(f"moved by up to {SHIFT_DAYS} days, each case by its own: {names}.", kind="shifted", done=True)
        for name, width in self.step.bands:
            text_of_bands = (
                f"ages in bands of {pluralize(width, 'year')} on {self.step.on_day} in place of days: {name}."
            )
            yield Note(text_of_bands, kind="coarsened", done=True)

    def _make_tally(self, result: Table, removed: list[str], shifted: list[str], cases: int) -> Tally:
        """Survey what may still identify people."""
        surveyed = [name for name in result.names if name != self.step.id and name not in shifted]
        types = {name: result[name].type for name in surveyed}
        examined = [name for name in surveyed if types[name] in ("string", "date", "datetime")]
        replaced = [self.step.id, *(name for name, _ in self.step.bands)]
        left = {
            (name, position): (len(rows), rows[:MOST_EXAMPLES].tolist())
            for name, column in result.columns.items()
            if name not in replaced and column.type == "string"
            for position, rows in sorted(self.removed_texts.find_cells(column).items())
        }
        groups = None
        if self.step.quasi_identifiers:
            names = choose_columns(self.step.quasi_identifiers, result.types(), result.name)
            groups = GroupSizes.of(Table({name: result[name] for name in names}))
        values = {name: sample_values(result[name]) for name in examined}
        return Tally(len(result), cases, types, values, [*removed, self.step.id], left, groups)


def conclude(step: Deidentify, account: Account, tallies: Sequence[Tally]) -> Account:
    """Add what may still identify people."""
    values = combine_all(tally.values for tally in tallies)
    types, removed = tallies[0].types, tallies[0].removed
    notes = [note for name, sample in values.items() for note in note_identifying(name, types[name], sample)]
    counts, examples, first_row = dict[tuple[str, int], int](), dict[tuple[str, int], list[int]](), FIRST_ROW
    for tally in tallies:
        for place, (count, rows) in tally.left.items():
            counts[place] = counts.get(place, 0) + count
            examples.setdefault(place, []).extend(row + first_row for row in rows)
        first_row += tally.rows
    order = list(values)
    for name, position in sorted(counts, key=lambda place: (order.index(place[0]), place[1])):
        count = counts[name, position]
        text = f"{pluralize(count, 'cell holds', 'cells hold')} a text of the column {removed[position]}, which should "
        text += "be gone; see ‹remove›, or correct them with a ledger."
        shown = tuple((row, None) for row in examples[name, position][:MOST_EXAMPLES])
        notes.append(Note(text, name, shown, "names-left", count))
    groups = [tally.groups for tally in tallies if tally.groups is not None]
    listings = (combine_all(groups).list_smallest(),) if groups else ()
    return replace(account, listings=listings, notes=(*account.notes, *notes))


def shift_dates(column: Column, codes: npt.NDArray[np.int64], shifts: npt.NDArray[np.int64], name: str) -> Column:
    """Shift dates by their case's days; distances within a case stay the same.

    Raises UsageError if the column does not hold dates.
    """
    if column.type not in ("date", "datetime"):
        raise UsageError(
            f"{name} is {column.type}, so it cannot be shifted.", todo="Name columns of dates.", columns=[name]
        )
    days = np.append(shifts, 0)[codes].astype("timedelta64[D]")
    shifted = Column.of(column.type, column.values + days, column.why, column.reasons)
    # A date without a case has no shift, and must not stay as it is.
    return shifted.with_missing(codes < 0, "suppressed")


def make_age_bands(column: Column, width: int, on_day: str, name: str) -> Column:
    """Return ages in bands of years, computed from dates of birth: "30 to 39".

    Raises UsageError if the column does not hold dates.
    """
    if column.type != "date":
        raise UsageError(
            f"{name} is {column.type}, not a date of birth.", todo="Name a column of dates.", columns=[name]
        )
    day = np.datetime64(on_day, "D")
    present = ~column.is_missing
    months = (day.astype("datetime64[M]") - column.values.astype("datetime64[M]")).astype(np.int64)
    of_month = (column.values - column.values.astype("datetime64[M]")).astype(np.int64)
    day_of_month = int((day - day.astype("datetime64[M]").astype("datetime64[D]")).astype(np.int64))
    months = np.where(present, months - (of_month > day_of_month), 0)
    band = np.where(present, months // 12 // width, 0)
    distinct, positions = np.unique(band, return_inverse=True)
    texts = [f"{low * width} to {low * width + width - 1}" for low in distinct.tolist()]
    return Column.of_strings(positions.astype(np.int32), Pool.of(texts), column.why, column.reasons)


# Letters and digits without easily confused ones, and without vowels, which could form words.
ALPHABET = np.frombuffer(b"23456789BCDFGHJKMNPQRSTVWXYZ", np.uint8)
LENGTH = 12
SHIFT_DAYS = 180


def hash_with_key(texts: Sequence[str], secret: str, purpose: str) -> npt.NDArray[np.uint64]:
    """Return a number for each text that nobody can predict without the secret.

    Parameters
    ----------
    texts
        The n old ids.
    secret
        What the numbers depend on.
    purpose
        A word; numbers for different purposes have nothing to do with each other.

    Returns
    -------
    uint64 array of n numbers, the same for a text whatever other texts there are.

    References
    ----------
    M.-J. Saarinen and J.-P. Aumasson, "The BLAKE2 Cryptographic Hash and Message Authentication Code", RFC 7693 (2015),
    section 2.9: keyed hashing.
    """
    key = hashlib.sha256(f"{purpose}\0{secret}".encode()).digest()
    digests = b"".join(hashlib.blake2b(text.encode(), key=key, digest_size=8).digest() for text in texts)
    return np.frombuffer(digests, "<u8")


def make_ids(texts: Sequence[str], secret: str) -> list[str]:
    """Make ids of twelve characters.

    Among a million people two get the same one with a probability of about 1 in 400,000 (half a million million pairs
    over 28^12 ids); callers check for it.

    >>> both, one = make_ids(["A1", "B2"], "s"), make_ids(["B2"], "s")
    >>> both[1] == one[0], len(one[0])
    (True, 12)
    """
    # A 64-bit number yields six almost uniformly distributed characters.
    characters = np.empty((len(texts), LENGTH), np.uint8)
    for half, purpose in enumerate(("ids", "ids again")):
        numbers = hash_with_key(texts, secret, purpose).copy()
        for index in range(LENGTH // 2):
            characters[:, half * LENGTH // 2 + index] = ALPHABET[numbers % np.uint64(len(ALPHABET))]
            numbers //= np.uint64(len(ALPHABET))
    text = characters.tobytes().decode()
    return [text[start : start + LENGTH] for start in range(0, len(text), LENGTH)]


def make_shifts(texts: Sequence[str], secret: str) -> npt.NDArray[np.int64]:
    """Return days for each person, from -180 to 180 and never 0."""
    numbers = hash_with_key(texts, secret, "shift")
    days = (numbers >> np.uint64(1)) % np.uint64(SHIFT_DAYS) + np.uint64(1)
    directions = np.where((numbers & np.uint64(1)) != 0, 1, -1)
    return np.asarray(directions * days.astype(np.int64), np.int64)
