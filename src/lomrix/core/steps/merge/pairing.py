"""Pairing: match the rows of two tables by key; the merged table, and the account."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, partial
from typing import get_args

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays import matching
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array, Counts, Mask
from lomrix.core.combining import MOST_EXAMPLES, First, Words
from lomrix.core.errors import Proposal
from lomrix.core.rows.keys import PairedKeys, format_keys, show_repeated
from lomrix.core.rows.occurrences import is_unique
from lomrix.core.steps.account import Account, Balance, Kind, Listing, Part
from lomrix.core.steps.merge.likely_partners import OPTIONS, NearMiss, find_near_misses, quote_if_needed
from lomrix.core.steps.merge.origin import is_carried
from lomrix.core.steps.merge.overlap import Overlap
from lomrix.core.steps.merge.settings import KeyPairs, Merge, Relationship, TidyWord
from lomrix.core.steps.merge.sides import MOST_COMPARED, Keys, Side, Sides
from lomrix.core.steps.merge.unmatched import UnmatchedKeys
from lomrix.core.table.column import Column, choose_cells, common_type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import find_label_conflicts, require_same_labels
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

MOST_NEAR = 12
# At most this many columns are tried as further keys.
MOST_FURTHER = 8


@dataclass
class Pairing:
    """The rows of two tables matched by key."""

    step: Merge
    key: KeyPairs
    base: Table
    added: Table
    keys: PairedKeys

    @cached_property
    def counts(self) -> matching.Counts:
        """Rows per key on both sides."""
        return matching.Counts.count(self.keys.base, self.keys.added, self.keys.size)

    @property
    def several(self) -> tuple[int, int]:
        """Where not only keys decide: numbers of base rows with several partners, and of added rows with several."""
        return 0, 0

    @property
    def without_spell(self) -> First:
        """Where spells decide: the first rows without one."""
        return First(())

    @property
    def notes(self) -> tuple[Note, ...]:
        """Notes on the keys, and on how partners are found."""
        return self.keys.notes

    @cached_property
    def sides(self) -> Sides:
        """What is known of the keys of both sides."""
        base, added = self._describe_side(0), self._describe_side(1)
        # In a part, the keys that repeat on the other side may be in another part.
        is_needed = self.base.row_numbers is not None or (base.repeated and added.repeated)
        return Sides(base, added, self.counts.pairs, 0, self._list_further_keys() if is_needed else {})

    def _describe_side(self, side: int) -> Side:
        table, codes = (self.base, self.added)[side], (self.keys.base, self.keys.added)[side]
        counts = (self.counts.base, self.counts.added)[side]
        names = [pair[side] for pair in self.key]
        unmatched, matched = self._find_unmatched(side), (self.base_matched, self.added_matched)[side]
        first = unmatched[:MOST_EXAMPLES]
        times = np.bincount(codes[~matched & (codes >= 0)], minlength=self.keys.size)[codes[first]].tolist()
        shown = zip(format_keys(table, names, first), times, strict=True)
        keys = int(np.count_nonzero(counts))
        return Side(
            table.name,
            keys,
            show_repeated(table, names, codes, counts),
            First(table.show_rows(first, shown)),
            self._take_keys(side, unmatched),
            self._take_keys(1, self._find_first(1, codes >= 0)) if side and keys <= MOST_COMPARED else None,
        )

    def _take_keys(self, side: int, rows: Array) -> Keys:
        if not self._has_texts:
            rows = rows[:0]
        numbers = (self.base, self.added)[side].number_rows(rows)
        return Keys(pa.array(numbers, pa.int64()), self._format_keys(side, rows).cast(pa.large_string()))

    def _list_further_keys(self) -> dict[str, tuple[int, int]]:
        """Return columns of both tables that may be further keys: on each side 1 if keys would still repeat."""
        if self.step.expect is not None:
            return {}
        names = [name for name in self.base.names if name in self.added.columns and name not in dict(self.key)]
        names = [name for name in names if self.base[name].type != "number"][:MOST_FURTHER]
        result = {}
        for name in names:
            base_once = is_unique(self.base, (*(base for base, _ in self.key), name))
            added_once = is_unique(self.added, (*(added for _, added in self.key), name))
            result[name] = (int(not base_once), int(not added_once))
        return result

    @cached_property
    def base_matched(self) -> npt.NDArray[np.bool_]:
        """For each base row whether it has a partner."""
        return self.counts.shared(self.keys.base)

    @cached_property
    def added_matched(self) -> npt.NDArray[np.bool_]:
        """For each added row whether it has a partner."""
        return self.counts.shared_by_base(self.keys.added)

    @cached_property
    def rows(self) -> tuple[Array, Array]:
        """Row of the base and row of the added table for each row of the result; -1 for none."""
        base_rows, added_rows = self._pair_rows()
        if self.step.rows == "matched":
            kept = added_rows >= 0
            return base_rows[kept], added_rows[kept]
        if self.step.rows == "base" or self.added_matched.all():
            return base_rows, added_rows
        unmatched = np.flatnonzero(~self.added_matched)
        no_row = np.full(len(unmatched), -1, np.int64)
        return np.concatenate([base_rows, no_row]), np.concatenate([added_rows, unmatched])

    def _pair_rows(self) -> tuple[Array, Array]:
        """Pair every row of the base with each of its partners, or with -1."""
        return matching.match_rows(self.keys.base, self.keys.added, self.keys.size, self.counts)

    @property
    def base_rows(self) -> Array:
        """Base row of each row of the result."""
        return self.rows[0]

    @property
    def added_rows(self) -> Array:
        """Added row of each row of the result."""
        return self.rows[1]

    @cached_property
    def keeps_base(self) -> bool:
        """True if the result's rows are the base's rows, each once and in order."""
        return len(self.base_rows) == len(self.base) and np.array_equal(self.base_rows, np.arange(len(self.base)))

    def require_expected(self) -> None:
        """Stop if rows have several partners against the expectation; keys that repeat are known of the whole."""

    # ------------------------------------------------------------------- table

    def make_table(self, overlap: Overlap) -> Table:
        """Return the merged table."""
        key_of = dict(self.key)
        makers: dict[str, Callable[[], Column]] = {}
        for name, column in self.base.columns.items():
            if name in overlap.columns:
                makers[name] = partial(overlap.columns.__getitem__, name)
            elif name in key_of:
                makers[name] = partial(self._make_key_column, column, self.added[key_of[name]])
            else:
                # If every base row is kept, the column is shared, not copied.
                makers[name] = partial(self._take_base, column)
        for name, column in self.added.columns.items():
            if name not in key_of.values() and name not in overlap.dropped:
                makers[overlap.renamed.get(name, name)] = partial(self._take_added, column)
        columns = dict(zip(makers, map_in_threads(lambda make: make(), makers.values()), strict=True))
        dictionary = self._make_dictionary(overlap)
        return Table(columns, dictionary.for_columns(columns), name=self.base.name)

    def _take_base(self, column: Column) -> Column:
        return column if self.keeps_base else column.take_or(self.base_rows, UNMATCHED)

    def _take_added(self, column: Column) -> Column:
        return column.take_or(self.added_rows, UNMATCHED)

    def _make_dictionary(self, overlap: Overlap) -> Dictionary:
        base = self.base.dictionary.for_columns(self.base.names)
        added = self.added.dictionary.for_columns(self.added.names)
        key_of = {added: base for base, added in self.key}
        names = {name: overlap.renamed.get(name, name) for name in self.added.names if name not in key_of}
        if self.step.other_labels == "stop":
            same = {name: new for name, new in {**names, **key_of}.items() if new in self.base.columns}
            require_same_labels(find_label_conflicts(base, added, same, self.added.name))
        # The entry of a key takes precedence over that of a column of the same name.
        order = [*((name, names[name]) for name in names), *key_of.items()]
        renamed = {new: added.variables[name] for name, new in order if name in added.variables}
        return base.join(type(added)(renamed, added.codes))

    def get_key_column(self, name: str) -> Column | None:
        """Return the key of each row by its name in the base; None for any other column."""
        added = dict(self.key).get(name)
        return None if added is None else self._make_key_column(self.base[name], self.added[added])

    def _make_key_column(self, base: Column, added: Column) -> Column:
        """Return the key of each row: the base's, or the added table's for rows only there."""
        absent = self.base_rows < 0
        if not absent.any():
            return base if self.keeps_base else base.take(self.base_rows)
        type_ = common_type((base, added), keeps_whole=True) or "string"
        base_cells = base.widen(type_).take_or(self.base_rows, UNMATCHED)
        return choose_cells(base_cells, added.widen(type_).take_or(self.added_rows, UNMATCHED), absent)

    # ------------------------------------------------------------- near misses

    def _find_unmatched(self, side: int) -> Array:
        """Return the first row of each unmatched key on one side."""
        codes, matched = ((self.keys.base, self.base_matched), (self.keys.added, self.added_matched))[side]
        return self._find_first(side, ~matched & (codes >= 0))

    def _find_first(self, side: int, mask: npt.NDArray[np.bool_]) -> Array:
        """Return the first row of each key among some rows of one side."""
        if not mask.any():
            return np.zeros(0, np.int64)
        codes = np.where(mask, (self.keys.base, self.keys.added)[side], -1)
        firsts = matching.find_first_rows(codes, self.keys.size)
        return np.sort(firsts[firsts >= 0])

    def _format_keys(self, side: int, rows: Array) -> pa.Array:
        table = (self.base, self.added)[side]
        names = [pair[side] for pair in self.key]
        if len(names) == 1:
            return table[names[0]].take(rows).to_text()
        return pa.array(format_keys(table, names, rows), pa.large_string())

    @property
    def _has_texts(self) -> bool:
        """Return whether keys are texts, so that some may be nearly alike."""
        columns = self.base[self.key[0][0]], self.added[self.key[0][1]]
        return len(self.key) > 1 or "string" in (columns[0].type, columns[1].type)

    def list_unmatched(self, base_counts: Counts | None = None) -> UnmatchedKeys:
        """Return all unmatched keys; with `base_counts`, each row of the base stands for so many."""
        parts = []
        for side, table in enumerate((self.base, self.added)):
            codes, matched = (self.keys.base, self.keys.added)[side], (self.base_matched, self.added_matched)[side]
            firsts = self._find_unmatched(side)
            counts = matching.sum_counts(np.where(matched, -1, codes), self.keys.size, None if side else base_counts)
            parts.append(
                Table({
                    "side": Column.of("integer", np.full(len(firsts), side)),
                    "key": Column.of_strings(None, Pool(self._format_keys(side, firsts).cast(pa.large_string()))),
                    "rows": Column.of("integer", counts[codes[firsts]]),
                    "first_row": Column.of("integer", table.find_row_numbers(firsts)),
                })
            )  # fmt: skip
        return UnmatchedKeys(concatenate_tables(parts), self.sides)

    # ----------------------------------------------------------------- account

    def make_account(self, table: Table, overlap: Overlap) -> Account:
        """Report what the merge did to rows and cells; the rest is known once all parts are."""
        pairs = self.expected_pairs
        base_kept = self.step.rows != "matched"
        added_kept = self.step.rows == "all"
        balances = (
            self._balance_side(self.base, self.keys.base, self.base_matched, base_kept),
            self._balance_side(self.added, self.keys.added, self.added_matched, added_kept),
            Balance(
                "rows of the result",
                len(table),
                (
                    Part("kept", pairs, "in-both"),
                    _count_alone(self.base, ~self.base_matched & base_kept),
                    _count_alone(self.added, ~self.added_matched & added_kept),
                ),
            ),
            *self.balance_keys(),
            *self._balance_cells(table, overlap),
        )
        new = [name for name in table.names if name not in self.base.columns and not is_carried(name)]
        notes = (*self.notes, *self._note_missing_keys(), *overlap.notes)
        facts = {"pairs": pairs, "new_columns": new, "rows": len(table)}
        return Account("merge", "", balances, facts, overlap.listings, notes)

    def _balance_side(self, table: Table, codes: Array, matched: Mask, kept: bool) -> Balance:
        is_missing = codes < 0
        fate: Kind = "kept" if kept else "left out"
        parts = (
            Part("kept", int(np.count_nonzero(matched)), "matched"),
            Part(fate, int(np.count_nonzero(~matched & ~is_missing)), "unmatched"),
            Part(fate, int(np.count_nonzero(is_missing)), "key-missing"),
        )
        return Balance("rows", len(table), parts, table.name)

    @property
    def expected_pairs(self) -> int:
        """Rows of the result that are in both tables, by the keys."""
        return self.counts.pairs

    def balance_keys(self) -> tuple[Balance, ...]:
        """Balance the distinct keys; none where not only keys decide."""
        in_base, in_added = self.counts.base > 0, self.counts.added > 0
        return (
            Balance(
                "distinct keys",
                int(np.count_nonzero(in_base | in_added)),
                (
                    Part("kept", int(np.count_nonzero(in_base & in_added)), "in-both"),
                    _count_alone(self.base, in_base & ~in_added),
                    _count_alone(self.added, in_added & ~in_base),
                ),
            ),
        )

    def _balance_cells(self, table: Table, overlap: Overlap) -> tuple[Balance, ...]:
        """Balance the values of the base's own columns, if each of its rows is in the result once."""
        if len(self.base_rows) - int(np.count_nonzero(self.base_rows < 0)) != len(self.base) or not self.has_base_once:
            return ()
        others = {*overlap.columns, *dict(self.key)}
        names = [name for name in self.base.names if name not in others and not is_carried(name)]
        before = sum(len(self.base) - self.base[name].missing_count for name in names)
        after = sum(len(table) - table[name].missing_count for name in names)
        return (Balance("kept values", before, (Part("kept", after),), self.base.name, quiet=True),)

    @cached_property
    def has_base_once(self) -> bool:
        """True if each base row is in the result exactly once."""
        return self.keeps_base or bool((np.bincount(self.base_rows[self.base_rows >= 0]) == 1).all())

    def _note_missing_keys(self) -> tuple[Note, ...]:
        notes = []
        for table, codes, side in ((self.base, self.keys.base, 0), (self.added, self.keys.added, 1)):
            rows = np.flatnonzero(codes < 0)
            if len(rows):
                name = self.key[0][side]
                text = Words("{rows:row} of {table} without {name}: a missing key never matches.",
                             rows=len(rows), table=table.name, name=name)  # fmt: skip
                notes.append(Note(text, name, table.show_rows(rows), "missing-key", len(rows)))
        return tuple(notes)


def summarize(key: KeyPairs, base: str, added: str, relationship: Relationship) -> str:
    """Summarize a merge."""
    names = ", ".join(name if name == other else f"{name} = {other}" for name, other in key)
    return f"{added} merged into {base} by {names}: {relationship}."


def _count_alone(table: Table, is_alone: npt.NDArray[np.bool_]) -> Part:
    """Count rows or keys that only one table has."""
    return Part("kept", int(np.count_nonzero(is_alone)), "only-in", table.name)


def find_likely_partners(sides: Sides) -> dict[str, NearMiss]:
    """Return the likely partners of the base's unmatched keys."""
    # A misspelt name is near to one that is matched already, so small sets are compared in full.
    others = (sides.added.all_keys or sides.added.unmatched).texts
    return find_near_misses(sides.base.unmatched.texts, others) if len(others) else {}


def list_near_misses(sides: Sides, key: str, near: dict[str, NearMiss]) -> tuple[Listing, ...]:
    """List likely partners, and how to match them."""
    if not near:
        return ()
    rows = tuple(
        (
            quote_if_needed(miss.key),
            quote_if_needed(miss.partner),
            miss.differs_by,
            miss.option or miss.format_ledger_row(key),
        )
        for miss in list(near.values())[:MOST_NEAR]
    )
    title = f"likely partners, {pluralize(len(near), 'key')} in all"
    heads = (
        f"in {sides.base.table}", f"in {sides.added.table}", "differ by", "option or ledger row that matches them"
    )  # fmt: skip
    return (Listing(title, heads, rows),)


def advise_on_keys(step: Merge, near: dict[str, NearMiss], *, matches_nothing: bool) -> tuple[str | Proposal, ...]:
    """Advise on keys that did not match."""
    if matches_nothing and not near:
        return ("no key matched at all: check that ‹key› names the right columns",)
    causes = {
        tidy_word for miss in near.values() for tidy_word in OPTIONS.get(miss.differs_by, "").split(",") if tidy_word
    }
    if causes:
        tidy_words = ",".join(tidy_word for tidy_word in get_args(TidyWord) if tidy_word in causes)
        return (Proposal("merge", {**step.to_dict(), "tidy_keys": tidy_words}, words="to match more keys"),)
    return ()
