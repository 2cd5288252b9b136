"""Merge the columns of one table after the other into the base, each with an account of its own."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lomrix.core.arrays import matching
from lomrix.core.combining import Items, Words, combine_all
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import PairedKeys, encode_key_pairs
from lomrix.core.steps.account import Account
from lomrix.core.steps.merge.links import apply_links
from lomrix.core.steps.merge.nearest_pairing import NearestPairing
from lomrix.core.steps.merge.origin import Origin, combine_accounts, stack_texts
from lomrix.core.steps.merge.overlap import Difference, require_agreement, resolve_overlap
from lomrix.core.steps.merge.pairing import (
    Pairing,
    advise_on_keys,
    find_likely_partners,
    list_near_misses,
    summarize,
)
from lomrix.core.steps.merge.settings import KeyPairs, Merge, parse_during
from lomrix.core.steps.merge.sides import Sides
from lomrix.core.steps.merge.spell_pairing import SpellPairing
from lomrix.core.steps.merge.tidy import tidy_tables
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import join_in_row_order
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.wording import split_list

# Kinds of notes that follow those on keys.
AFTER_KEYS = ("missing-key", "overridden", "emptied")


def merge(step: Merge, tables: Inputs, wanted: Collection[str], base_rows: int | None = None) -> Result:
    """Merge the added tables into the base, one after the other; `base_rows` counts those of the whole base."""
    if len(tables.get_all("added")) == 1 and step.can_divide(
        (), {role: len(tables.get_all(role)) for role in tables.roles}
    ):
        return merge_by_key(step, tables, wanted, base_rows or 0)
    base, added_tables, links = tables.get_one("base"), tables.get_all("added"), tables.get_optional("links")
    if step.status:
        require_new_name(step.status, [name for table in tables for name in table.names], "the status column")
    step.require_files([table.name for table in added_tables])
    require_known_columns(step, added_tables)
    result, origin, key = base, Origin.start(base, len(added_tables), has_status=bool(step.status)), step.pairs
    accounts: list[Account] = []
    if links is not None:
        result, key, account = apply_links(base, links, added_tables[0], key)
        accounts.append(account)
    unmatched: list[Table] = []
    conflicts: list[Table] = []
    for added in added_tables:
        own_key = key if links is not None else step.pairs_of(added.name)
        pairing = pair_rows(step, own_key, result, added)
        overlap = resolve_overlap(
            step, pairing.base, pairing.added, own_key, pairing.base_rows, pairing.added_rows, pairing.get_key_column
        )
        require_agreement(pairing.base.name, pairing.added.name, overlap.differences, overlap.conflicts)
        result = pairing.make_table(overlap)
        origin = origin.extend(added.name, pairing.base_rows, pairing.added_rows)
        near_misses = pairing.find_likely_partners() if not (step.near or step.during) else {}
        accounts.append(pairing.complete_account(pairing.make_account(result, overlap), near_misses))
        unmatched += [pairing.list_unmatched(near_misses)] if "unmatched" in wanted else []
        conflicts += [overlap.conflicts] if overlap.conflicts is not None else []
    if step.status:
        result = origin.add_status(result, step.status)
    extras = {"unmatched": stack_texts(unmatched), "conflicts": stack_texts(conflicts)}
    return Result(
        result, combine_accounts(accounts), {name: table for name, table in extras.items() if table is not None}
    )


def join_merges(results: Sequence[Result]) -> Result:
    """Return the result of several merges, each with that of the one before as its base."""
    conflicts = stack_texts([result.extras["conflicts"] for result in results if "conflicts" in result.extras])
    account = combine_accounts([result.account for result in results])
    return Result(results[-1].table, account, {} if conflicts is None else {"conflicts": conflicts})


@dataclass(frozen=True)
class Tally:
    """What the account of a merge by key needs of each part."""

    sides: Sides
    matched: int = 0
    added_rows: int = 0
    differences: tuple[Difference, ...] = ()
    conflicts: Table | None = None


def survey(step: Merge, tables: Inputs) -> int:
    """Count the rows of the base."""
    return len(tables.get_one("base"))


def merge_by_key(step: Merge, tables: Inputs, wanted: Collection[str], base_rows: int) -> Result:
    """Merge one table into the base, or the rows of some keys."""
    base, added = tables.get_one("base"), tables.get_one("added")
    if step.status:
        require_new_name(step.status, [*base.names, *added.names], "the status column")
    step.require_files([added.name])
    require_known_columns(step, [added])
    key = step.pairs_of(added.name)
    pairing = match_rows(step, key, base, added)
    if pairing.sides.find_violation(step) is not None:
        # The rows are not even paired: there may be very many.
        return Result(base, Account("merge", ""), tally=Tally(pairing.sides), stops=True)
    overlap = resolve_overlap(
        step, pairing.base, pairing.added, key, pairing.base_rows, pairing.added_rows, pairing.get_key_column
    )
    result = pairing.make_table(overlap)
    is_once = int(np.count_nonzero(pairing.base_rows >= 0)) == len(base) and pairing.has_base_once
    tally = Tally(
        replace(pairing.sides, base_not_once=int(not is_once)),
        int(np.count_nonzero(pairing.base_matched)),
        len(added),
        overlap.differences,
        overlap.conflicts,
    )
    if step.status:
        origin = Origin.start(base, 1).extend(added.name, pairing.base_rows, pairing.added_rows)
        result = origin.add_status(result, step.status)
    numbers = None
    if base.row_numbers is not None and added.row_numbers is not None:
        # Rows of the added table alone come after all rows of the base.
        of_base = np.append(base.row_numbers, 0)[pairing.base_rows]
        of_added = np.append(added.row_numbers, 0)[pairing.added_rows] + base_rows + base.first_row
        numbers = np.where(pairing.base_rows < 0, of_added, of_base)
    extras = {"unmatched": pairing.list_unmatched(pairing.find_likely_partners())} if "unmatched" in wanted else {}
    extras |= {} if overlap.conflicts is None else {"conflicts": overlap.conflicts}
    account = pairing.make_account(result, overlap)
    return Result(replace(result, row_numbers=numbers), account, extras, tally=tally)


def conclude(step: Merge, account: Account, tallies: Sequence[Tally | None]) -> Account:
    """Complete the account of a merge by key; the others are complete.

    Raises DataError if the keys of all parts together break the expectation.
    """
    known = [tally for tally in tallies if tally is not None]
    if not known:
        return account
    sides = combine_all(tally.sides for tally in known)
    if (violation := sides.find_violation(step)) is not None:
        raise violation
    differences = combine_all(Items(tally.differences) for tally in known)
    conflicts = [tally.conflicts for tally in known if tally.conflicts is not None]
    require_agreement(
        sides.base.table, sides.added.table, differences, join_in_row_order(conflicts) if conflicts else None
    )
    matches_nothing = any(tally.added_rows for tally in known) and not any(tally.matched for tally in known)
    near = find_likely_partners(sides)
    key = step.pairs_of(sides.added.table)
    relationship = sides.relationship
    place = next((at for at, note in enumerate(account.notes) if note.kind in AFTER_KEYS), len(account.notes))
    balances = account.balances
    if sides.base_not_once:
        balances = tuple(balance for balance in balances if balance.what != "kept values")
    return replace(
        account,
        summary=summarize(key, sides.base.table, sides.added.table, relationship),
        balances=balances,
        facts={"relationship": relationship, "expected": step.expect, **account.facts},
        listings=(*sides.list_first_unmatched(), *list_near_misses(sides, key[0][0], near), *account.listings),
        notes=(*account.notes[:place], *sides.note_few_repeated(), *account.notes[place:]),
        advice=advise_on_keys(step, near, matches_nothing=matches_nothing),
    )


def pair_rows(step: Merge, key: KeyPairs, base: Table, added: Table) -> Pairing:
    """Match the rows of two tables, and require the expected relationship."""
    pairing = match_rows(step, key, base, added)
    pairing.require_expected()
    return pairing


def match_rows(step: Merge, key: KeyPairs, base: Table, added: Table) -> Pairing:
    """Match the rows of two tables."""
    added = take_columns(step, key, added)
    notes: list[Note] = []
    base_tidied, added_tidied = base, added
    if step.tidy_keys:
        base_tidied, added_tidied, notes = tidy_tables(base, added, key, step.tidy_keys)
    keys = encode_key_pairs(base_tidied, added_tidied, key)
    if step.tidy_keys:
        exact = encode_key_pairs(base, added, key)
        notes = [*notes, *note_tidied(exact, keys)]
    keys = replace(keys, notes=(*keys.notes, *notes))
    pairing: Pairing
    if step.during:
        pairing = SpellPairing(step, key, base, added, keys, parse_during(step.during))
    elif step.nearness is not None:
        pairing = NearestPairing(step, key, base, added, keys, step.nearness)
    else:
        pairing = Pairing(step, key, base, added, keys)
    return pairing


def take_columns(step: Merge, key: KeyPairs, added: Table) -> Table:
    """Return the added table with its keys and the chosen columns."""
    if not step.take:
        return added
    required = [*(name for _, name in key), *step.compared_columns]
    chosen = [name for choice in split_list(step.take) for name in choose_by_word(choice, added)]
    return added.only([*required, *(name for name in chosen if name not in required)])


def choose_by_word(choice: str, added: Table) -> list[str]:
    """Return the columns of a table that one word of a choice names, possibly none."""
    try:
        return choose_columns(choice, added.types(), added.name)
    except UsageError:
        return []


def require_known_columns(step: Merge, tables: Sequence[Table]) -> None:
    """Stop if a word of the choice names no column of any added table.

    Raises UsageError for the last of the tables.
    """
    for choice in split_list(step.take):
        if not any(choose_by_word(choice, table) for table in tables):
            choose_columns(choice, tables[-1].types(), tables[-1].name)


def note_tidied(exact: PairedKeys, tidy: PairedKeys) -> list[Note]:
    """Note how many keys of the base matched only after tidying."""
    before = matching.Counts.count(exact.base, exact.added, exact.size).shared(exact.base)
    after = matching.Counts.count(tidy.base, tidy.added, tidy.size).shared(tidy.base)
    newly_matched = after & ~before
    keys = len(np.unique(exact.base[newly_matched]))
    return [Note(Words("{keys:key} of the base matched only this way.", keys=keys), kind="tidied", count=keys)]
