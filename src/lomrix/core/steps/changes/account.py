"""The account of a comparison of two deliveries, from what adds up over parts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from lomrix.core.combining import First, Same, Shown, combine_all
from lomrix.core.errors import DataError
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.changes.settings import Changes
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table

MOST_LINES = 30
PARTS = ("label", "unit", "missing", "minimum", "maximum", "allowed", "level")
Line = tuple[str, str, str, str]


@dataclass(frozen=True)
class Side:
    """The rows of one delivery: without a key, without a partner, and of keys that repeat."""

    rows: int
    without: int
    alone: int
    first_alone: First
    repeated: Shown


@dataclass(frozen=True)
class ColumnTally:
    """The cells of a column that are the same, changed, and nearly equal."""

    same: int
    changed: int
    near: int
    examples: Shown


@dataclass(frozen=True)
class Tally:
    """What the account needs of each part: both sides, the rows in both, and their cells; `values` counts those of
    columns of two types, and `tables` are both deliveries without rows.
    """

    old: Side
    new: Side
    both: int
    columns: Mapping[str, ColumnTally]
    values: Mapping[str, tuple[int, int]]
    turns: int
    tables: Same


def conclude(step: Changes, account: Account, tallies: Sequence[Tally]) -> Account:
    """Return the account of all parts.

    Raises DataError if a key occurs in several rows of one side.
    """
    tally = combine_all(tallies)
    old, new = tally.tables.value
    for table, side in ((old, tally.old), (new, tally.new)):
        if side.repeated:
            raise DataError(
                f"{pluralize(side.repeated.total, 'row')} of {table.name} repeat their key, so rows cannot be paired.",
                where=side.repeated,
                todo="Name a further column of ‹key› that distinguishes them, such as the occasion.",
            )
    return note_order(Difference(step, old, new, tally).make_account(), tally.turns)


def note_order(account: Account, turns: int) -> Account:
    """Note that the rows are in another order."""
    if not turns:
        return account
    summary = f"{account.summary.removesuffix('.')}, " if account.is_broken else ""
    text = f"rows are in another order: it turns back {pluralize(turns, 'time')}."
    note = Note(text, kind="order", count=turns)
    place = next((at for at, note in enumerate(account.notes) if note.kind in ("no-key", "ledger")), len(account.notes))
    return replace(
        account,
        summary=f"{summary}in another order.",
        facts={**account.facts, "broken": True},
        notes=(*account.notes[:place], note, *account.notes[place:]),
    )


@dataclass
class Difference:
    """What differs between two deliveries, which are here without rows."""

    step: Changes
    old: Table
    new: Table
    tally: Tally

    def make_account(self) -> Account:
        """Report what differs."""
        tally, old, new = self.tally, self.old, self.new
        same, cells, near = (
            sum(getattr(column, kind) for column in tally.columns.values()) for kind in ("same", "changed", "near")
        )
        removed = [name for name in old.names if name not in new.columns]
        added = [name for name in new.names if name not in old.columns]
        dictionary_changes = list(compare_dictionaries(old, new, tally.values))
        parts = [
            words for words in (
                f"{pluralize(tally.new.alone, 'row')} new" if tally.new.alone else "",
                f"{tally.old.alone:,} gone" if tally.old.alone else "",
                f"{pluralize(cells, 'cell')} changed" if cells else "",
                f"{pluralize(len(removed) + len(added), 'column')} new or gone" if removed or added else "",
                f"{pluralize(len(dictionary_changes), 'entry', 'entries')} of the dictionary changed"
                if dictionary_changes else "",
            ) if words
        ]  # fmt: skip
        cell_parts = Part("kept", same, "unchanged"), Part("kept", near, "nearly"), Part("changed", cells)
        return Account(
            "changes",
            f"{', '.join(parts)}." if parts else f"{new.name} is the same as {old.name}.",
            (
                balance_rows(old.name, tally.old, tally.both, Part("left out", tally.old.alone, "gone")),
                balance_rows(new.name, tally.new, tally.both, Part("added", tally.new.alone, "new")),
                Balance("cells in both", tally.both * len(tally.columns), cell_parts),
            ),
            {"broken": bool(parts), "new": tally.new.alone, "gone": tally.old.alone, "changed": cells, "nearly": near,
             "columns_new": added, "columns_gone": removed},
            tuple(self._make_listings(dictionary_changes)),
            tuple(self._make_notes(removed, added)),
        )  # fmt: skip

    def _make_listings(self, dictionary_changes: list[Line]) -> Iterator[Listing]:
        lines = tuple(
            (name, column.changed, column.near, column.examples)
            for name, column in self.tally.columns.items()
            if column.changed or column.near
        )
        if lines:
            yield Listing("changed cells", ("variable", "changed", "nearly equal", "examples: key, old → new"), lines)
        for title, side in (("rows that are new", self.tally.new), ("rows that are gone", self.tally.old)):
            shown = side.first_alone.items
            if shown:
                more = "" if len(shown) == side.alone else f", the first {len(shown)} of {side.alone:,}"
                yield Listing(f"{title}{more}", ("row", ", ".join(self.step.key)), shown)
        if dictionary_changes:
            first = dictionary_changes if self.step.list == "all" else dictionary_changes[:MOST_LINES]
            more = f", the first {len(first)} of {len(dictionary_changes)}"
            more = "" if len(first) == len(dictionary_changes) else more
            yield Listing(f"the dictionary{more}", ("variable", "what", "old", "new"), tuple(first))

    def _make_notes(self, removed: list[str], added: list[str]) -> Iterator[Note]:
        for words, names in (("columns that are gone", removed), ("columns that are new", added)):
            if names:
                yield Note(f"{words}: {', '.join(names)}.", kind=words.replace(" ", "-"), count=len(names))
        for table, side in ((self.old, self.tally.old), (self.new, self.tally.new)):
            if side.without:
                text = f"{pluralize(side.without, 'row')} of {table.name} without a key: nothing to hold against."
                yield Note(text, kind="no-key", count=side.without)
        if self.tally.new.alone or added:
            text = "a ledger mends cells and leaves rows out; new rows and columns are stacked or merged."
            yield Note(text, kind="ledger", done=True)


def balance_rows(table: str, side: Side, shared: int, alone: Part) -> Balance:
    """Balance the rows of one side: shared, its own, and without a key."""
    parts = (Part("kept", shared, "in-both"), alone, Part("missing", side.without, "no-key"))
    return Balance("compared rows", side.rows, parts, table)


def compare_dictionaries(old: Table, new: Table, values: Mapping[str, tuple[int, int]]) -> Iterator[Line]:
    """Yield variable, part, old and new: types, labels, codes, missing codes, limits; `values` counts those of columns
    of two types.
    """
    for name in (before_value for before_value in old.names if before_value in new.columns):
        # A column without any value fits every type.
        if all(values.get(name, (0, 0))):
            yield name, "type", old[name].type, new[name].type
        before, now = old.dictionary.of(name), new.dictionary.of(name)
        for part in PARTS:
            before_value, now_value = getattr(before, part), getattr(now, part)
            if before_value != now_value:
                yield (
                    name,
                    "missing codes" if part == "missing" else part,
                    format_part(before_value),
                    format_part(now_value),
                )
        old_codes, new_codes = old.dictionary.labels_of(name), new.dictionary.labels_of(name)
        for code in dict.fromkeys([*old_codes, *new_codes]):
            if old_codes.get(code) != new_codes.get(code):
                yield name, f"code {code}", old_codes.get(code, ""), new_codes.get(code, "")


def format_part(value: object) -> str:
    """Format a part of an entry."""
    if isinstance(value, dict):
        return ", ".join(f"{code} {reason}" for code, reason in value.items())
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    return "" if value is None else str(value)
