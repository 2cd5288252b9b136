"""Remove names, replace the id, shift dates, coarsen ages, and note what may still identify people."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.parse import find_names, parse
from lomrix.core.rows.keys import group_rows, rank_cells
from lomrix.core.steps.account import Account, Balance, Listing, Part, balance_values
from lomrix.core.steps.deidentify.identifying import SMALL_GROUP, find_names_left, note_identifying
from lomrix.core.steps.deidentify.settings import Deidentify
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable


def deidentify(step: Deidentify, tables: Inputs, wanted: Collection[str]) -> Result:
    """Deidentify the table; the linkage file is an extra."""
    secret = tables.get_one("seed")["secret"].first_text() or ""
    return Deidentification(step, secret).run(tables.get_one())


@dataclass(frozen=True)
class Deidentification:
    """A table being deidentified, with the secret that new ids and shifts derive from."""

    step: Deidentify
    secret: str

    def run(self, table: Table) -> Result:
        """Return the deidentified table, its account, and the linkage."""
        step = self.step
        removed = choose_columns(step.remove, table.types(), table.name) if step.remove else []
        if step.id in removed:
            raise UsageError("The id is replaced, so it cannot be removed too.", todo="Leave it out of ‹remove›.")
        shifted = choose_columns(step.shift, table.types(), table.name) if step.shift else []
        for name in removed:
            if name in shifted or name in dict(step.bands):
                raise UsageError(f"{name} is removed, so it cannot be changed too.", todo="Name it once.")
        groups = group_rows(table, (step.id,))
        old = [text.removesuffix(".0") for text in groups.values[step.id].to_text().to_pylist()]
        new_ids = self._make_new_ids(old)
        columns = {name: column for name, column in table.columns.items() if name not in removed}
        columns[step.id] = new_ids.take_or(groups.codes, "blank")
        days = make_shifts(old, self.secret)
        for name in shifted:
            columns[name] = shift_dates(columns[name], groups.codes, days, name)
        for name, width in step.bands:
            columns[name] = make_age_bands(table[name], width, step.on_day, name)
        result = self._describe(table.with_columns(columns), shifted)
        # The order of the rows could identify people too, so rows are sorted by new id.
        by_new_id = np.argsort(rank_cells(new_ids)[0], kind="stable")
        position = np.empty(groups.count, np.int64)
        position[by_new_id] = np.arange(groups.count)
        order = np.argsort(
            np.where(groups.codes < 0, groups.count, np.append(position, 0)[groups.codes]), kind="stable"
        )
        result = result.take(order)
        linkage = self._make_linkage(
            table.take(order), groups.codes[order], new_ids, removed, days if shifted else None
        )
        return Result(result, self._make_account(table, result, removed, shifted, groups.count), {"linkage": linkage})

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

    def _make_new_ids(self, old: Sequence[str]) -> Column:
        ids = make_ids(old, self.secret)
        if len(set(ids)) < len(old):
            raise DataError("Two ids got the same new id.", todo="Use another seed file.")
        return Column.of_strings(None, Pool.of(ids))

    def _make_linkage(
        self, table: Table, codes: npt.NDArray[np.int64], new_ids: Column, removed: list[str], shifts: object
    ) -> Table:
        """Return one row for each row with an id: new id, old id, removed columns, days of the shift."""
        rows = np.flatnonzero(codes >= 0)
        columns = {f"new_{self.step.id}": new_ids.take(codes[rows]), self.step.id: table[self.step.id].take(rows)}
        columns |= {name: table[name].take(rows) for name in removed}
        if isinstance(shifts, np.ndarray):
            columns["shifted_days"] = Column.of("integer", shifts[codes[rows]])
        _, firsts = np.unique(codes[rows], return_index=True)
        distinct = Table(columns, table.dictionary.for_columns(columns), name="linkage")
        return distinct.take(np.sort(firsts)) if not removed else distinct

    # ----------------------------------------------------------------- account

    def _make_account(self, table: Table, result: Table, removed: list[str], shifted: list[str], cases: int) -> Account:
        new, without_id = len(result) - result[self.step.id].missing_count, table[self.step.id].missing_count
        kept = [name for name in result.names if name not in shifted]
        coarsened = [name for name, _ in self.step.bands]
        return Account(
            "deidentify",
            f"{pluralize(cases, 'id')} of {self.step.id} became {plural(cases, 'a new one', 'new ones')}, "
            "the same in every file of this secret.",
            (
                Balance("rows", len(table), (Part("changed", new, "new-id"), Part("kept", without_id, "no-id"))),
                Balance("columns", len(table.names), (Part("kept", len(result.names)), Part("left out", len(removed)))),
                balance_values(table.only(kept), result.only(kept)),
            ),
            {"cases": cases, "removed": removed, "shifted": shifted, "coarsened": coarsened},
            (self._list_small_groups(result),) if self.step.quasi_identifiers else (),
            (*self._note_changes(removed, shifted, without_id), *self._note_left(table, result, removed, shifted)),
        )

    def _note_changes(self, removed: list[str], shifted: list[str], without_id: int) -> Iterator[Note]:
        """Note what was done."""
        if removed:
            yield Note(f"removed: {', '.join(removed)}.", kind="removed", count=len(removed), done=True)
        yield Note("rows are sorted by the new ids.", kind="order", done=True)
        if without_id:
            text = f"{pluralize(without_id, 'row')} without an id: the linkage file does not include them."
            yield Note(text, self.step.id, (), "no-id", without_id)
        if shifted:
            text = f"moved by up to {SHIFT_DAYS} days, each case by its own: {', '.join(shifted)}."
            yield Note(text, kind="shifted", done=True)
        for name, width in self.step.bands:
            text = f"ages in bands of {pluralize(width, 'year')} on {self.step.on_day} in place of days: {name}."
            yield Note(text, kind="coarsened", done=True)

    def _note_left(self, table: Table, result: Table, removed: list[str], shifted: list[str]) -> Iterator[Note]:
        """Note what may still identify people."""
        for name, column in result.columns.items():
            if name != self.step.id and name not in shifted:
                yield from note_identifying(name, column)
        replaced = [self.step.id, *(name for name, _ in self.step.bands)]
        yield from find_names_left(table, [*removed, self.step.id], result, replaced)

    def _list_small_groups(self, table: Table) -> Listing:
        names = choose_columns(self.step.quasi_identifiers, table.types(), table.name)
        groups = group_rows(table, names)
        sizes = np.bincount(groups.codes[groups.codes >= 0], minlength=groups.count)
        order = np.argsort(sizes, kind="stable")[:10]
        small = int(sizes[sizes < SMALL_GROUP].sum())
        rows = []
        for index in order.tolist():
            cells = [str(groups.values[name].to_text()[index].as_py()) for name in names]
            rows.append((*cells, int(sizes[index])))
        title = f"smallest groups; {pluralize(small, 'row is', 'rows are')} in groups of fewer than {SMALL_GROUP}"
        return Listing(title, (*names, "rows"), tuple(rows))


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
