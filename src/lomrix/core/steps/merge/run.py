"""Merge the columns of one table after the other into the base, each with an account of its own."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from lomrix.core.arrays import matching
from lomrix.core.combining import First, Items, Words, combine, combine_all
from lomrix.core.rows.keys import PairedKeys, encode_key_pairs
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.merge.each import merge_each, require_known_columns, take_columns
from lomrix.core.steps.merge.likely_partners import NearMiss
from lomrix.core.steps.merge.nearest_pairing import NearestPairing
from lomrix.core.steps.merge.origin import Origin
from lomrix.core.steps.merge.overlap import require_agreement, resolve_overlap
from lomrix.core.steps.merge.pairing import (
    Pairing,
    advise_on_keys,
    find_likely_partners,
    list_near_misses,
    summarize,
)
from lomrix.core.steps.merge.settings import KeyPairs, Merge, Relationship, parse_during
from lomrix.core.steps.merge.sides import Sides
from lomrix.core.steps.merge.spell_pairing import SpellPairing
from lomrix.core.steps.merge.tidy import tidy_tables
from lomrix.core.steps.merge.unmatched import UnmatchedKeys
from lomrix.core.steps.parts import MemoryStore
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import join_in_row_order
from lomrix.core.table.table import Table, require_new_name

# Kinds of notes that follow those on keys.
NO_ROWS, NO_DIFFERENCES = First((), 0), Items()
AFTER_KEYS = ("missing-key", "overridden", "emptied")


def merge(step: Merge, tables: Inputs, wanted: Collection[str], base_rows: int | None = None) -> Result:
    """Merge the added tables into the base, one after the other; `base_rows` counts those of the whole base."""
    several = merge_each(step, tables, lambda one, both: one.apply(both, wanted), sys.maxsize, MemoryStore)
    if several is not None:
        return several
    base, added = tables.get_one("base"), tables.get_one("added")
    require_known_columns(step, [added])
    return Merging(step, step.pairs, base, added).run(wanted, base_rows)


@dataclass(frozen=True)
class Tally:
    """What the account of a merge needs of each part.

    `several` and `without_spell` are those of a `Pairing`, where not only keys decide.
    """

    key: KeyPairs
    sides: Sides
    several: tuple[int, int] = (0, 0)
    without_spell: First = NO_ROWS
    matched: int = 0
    added_rows: int = 0
    differences: Items = NO_DIFFERENCES
    conflicts: tuple[Table, ...] = ()

    def combine(self, later: Tally) -> Tally:
        """Add what is known of a later part."""
        return Tally(
            self.key, self.sides.combine(later.sides), combine(self.several, later.several),
            self.without_spell.combine(later.without_spell), self.matched + later.matched,
            self.added_rows + later.added_rows, self.differences.combine(later.differences),
            (*self.conflicts, *later.conflicts),
        )  # fmt: skip


def survey(step: Merge, tables: Inputs) -> int:
    """Count the rows of the base."""
    return len(tables.get_one("base"))


@dataclass
class Merging:
    """One table being merged into the base, or the rows of some keys."""

    step: Merge
    key: KeyPairs
    base: Table
    added: Table

    @cached_property
    def pairing(self) -> Pairing:
        """The rows that match."""
        step, key, base = self.step, self.key, self.base
        added = take_columns(step, key, self.added)
        notes: list[Note] = []
        base_tidied, added_tidied = base, added
        if step.tidy_keys:
            base_tidied, added_tidied, notes = tidy_tables(base, added, key, step.tidy_keys)
        keys = encode_key_pairs(base_tidied, added_tidied, key)
        if step.tidy_keys:
            exact = encode_key_pairs(base, added, key)
            notes = [*notes, *note_tidied(exact, keys)]
        keys = replace(keys, notes=(*keys.notes, *notes))
        if step.during:
            return SpellPairing(step, key, base, added, keys, parse_during(step.during))
        if step.nearness is not None:
            return NearestPairing(step, key, base, added, keys, step.nearness)
        return Pairing(step, key, base, added, keys)

    def run(self, wanted: Collection[str], base_rows: int | None = None) -> Result:
        """Merge; of a part, `base_rows` counts the rows of the whole base."""
        step, pairing, base, added = self.step, self.pairing, self.base, self.added
        if step.status:
            require_new_name(step.status, [*base.names, *added.names], "the status column")
        pairing.require_expected()
        if not (step.near or step.during) and pairing.sides.find_violation(step) is not None:
            # The rows are not even paired: there may be very many.
            return Result(base, Account("merge", ""), tally=Tally(self.key, pairing.sides), stops=True)
        overlap = resolve_overlap(
            step, base, pairing.added, self.key, pairing.base_rows, pairing.added_rows, pairing.get_key_column
        )
        result = pairing.make_table(overlap)
        is_once = int(np.count_nonzero(pairing.base_rows >= 0)) == len(base) and pairing.has_base_once
        tally = Tally(
            self.key,
            replace(pairing.sides, base_not_once=int(not is_once)),
            pairing.several,
            pairing.without_spell,
            int(np.count_nonzero(pairing.base_matched)),
            len(added),
            Items(overlap.differences),
            () if overlap.conflicts is None else (overlap.conflicts,),
        )
        if step.status:
            bits = (pairing.base_rows >= 0).astype(np.int64) | (pairing.added_rows >= 0).astype(np.int64) << 1
            result = Origin((base.name, added.name), step.status).add(result, bits, (1, 2, 3))
        numbers = None
        if base.row_numbers is not None and added.row_numbers is not None:
            # Rows of the added table alone come after all rows of the base.
            of_base = np.append(base.row_numbers, 0)[pairing.base_rows]
            of_added = np.append(added.row_numbers, 0)[pairing.added_rows] + (base_rows or 0) + base.first_row
            numbers = np.where(pairing.base_rows < 0, of_added, of_base)
        extras: dict[str, Any] = {}
        if "unmatched" in wanted:
            keys = pairing.list_unmatched()
            extras["unmatched"] = keys if base_rows is not None else add_partners(step, keys)
        if overlap.conflicts is not None:
            extras["conflicts"] = overlap.conflicts
        account = pairing.make_account(result, overlap)
        return Result(replace(result, row_numbers=numbers), account, extras, tally=tally)


def find_near_keys(step: Merge, sides: Sides) -> dict[str, NearMiss]:
    """Return the likely partners of the base's unmatched keys, where only keys decide."""
    return {} if step.near or step.during else find_likely_partners(sides)


def add_partners(step: Merge, unmatched: UnmatchedKeys) -> Table:
    """Return all unmatched keys with their likely partners."""
    return unmatched.make_table(find_near_keys(step, unmatched.sides))


def complete(step: Merge, result: Result, tables: Inputs) -> Result:
    """Complete what the parts give together."""
    unmatched = result.extras.get("unmatched")
    if not isinstance(unmatched, UnmatchedKeys):
        return result
    return replace(result, extras={**result.extras, "unmatched": add_partners(step, unmatched)})


def conclude(step: Merge, account: Account, tallies: Sequence[Tally | None]) -> Account:
    """Complete the account of a merge of one table; those of several are complete.

    Raises DataError if the keys of all parts together break the expectation.
    """
    known = [tally for tally in tallies if tally is not None]
    if not known:
        return account
    tally = combine_all(known)
    sides, only_keys = tally.sides, not (step.near or step.during)
    if only_keys and (violation := sides.find_violation(step)) is not None:
        raise violation
    conflicts = join_in_row_order(tally.conflicts) if tally.conflicts else None
    require_agreement(sides.base.table, sides.added.table, tally.differences, conflicts)
    near = find_near_keys(step, sides)
    relationship = sides.relationship if only_keys else name_relationship(*tally.several)
    place = next((at for at, note in enumerate(account.notes) if note.kind in AFTER_KEYS), len(account.notes))
    balances = account.balances
    if sides.base_not_once:
        balances = tuple(balance for balance in balances if balance.what != "kept values")
    unmatched = list_without_spell(step, tally.without_spell) if step.during else sides.list_first_unmatched()
    repeated = () if step.during else sides.note_few_repeated()
    notes = (*account.notes[:place], *repeated, *account.notes[place:])
    return replace(
        account,
        summary=summarize(tally.key, sides.base.table, sides.added.table, relationship),
        balances=balances,
        facts={"relationship": relationship, "expected": step.expect, **account.facts},
        listings=(*unmatched, *list_near_misses(sides, tally.key[0][0], near), *account.listings),
        notes=tuple(note for note in notes if not note.is_empty),
        advice=advise_on_keys(step, near, matches_nothing=bool(tally.added_rows) and not tally.matched),
    )


def name_relationship(base_several: int, added_several: int) -> Relationship:
    """Name the relationship by the rows that have several partners on each side."""
    if base_several:
        return "many-to-many" if added_several else "one-to-many"
    return "many-to-one" if added_several else "one-to-one"


def list_without_spell(step: Merge, first: First) -> tuple[Listing, ...]:
    """List the first rows of the base without a spell."""
    rows = tuple((key, day, row, why) for row, (key, day, why) in first.items)
    heads = ("key", parse_during(step.during).day, "row", "why")
    return (Listing("first rows without a spell", heads, rows),) if rows else ()


def note_tidied(exact: PairedKeys, tidy: PairedKeys) -> list[Note]:
    """Note how many keys of the base matched only after tidying."""
    before = matching.Counts.count(exact.base, exact.added, exact.size).shared(exact.base)
    after = matching.Counts.count(tidy.base, tidy.added, tidy.size).shared(tidy.base)
    newly_matched = after & ~before
    keys = len(np.unique(exact.base[newly_matched]))
    return [Note(Words("{keys:key} of the base matched only this way.", keys=keys), kind="tidied", count=keys)]
