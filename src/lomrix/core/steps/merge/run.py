"""Merge the columns of one table after the other into the base, each with an account of its own."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np

from lomrix.core.arrays import matching
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import PairedKeys, encode_key_pairs
from lomrix.core.steps.account import Account
from lomrix.core.steps.merge.links import apply_links
from lomrix.core.steps.merge.nearest_pairing import NearestPairing
from lomrix.core.steps.merge.origin import Origin, combine_accounts, stack_texts
from lomrix.core.steps.merge.overlap import resolve_overlap
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import KeyPairs, Merge, parse_during
from lomrix.core.steps.merge.spell_pairing import SpellPairing
from lomrix.core.steps.merge.tidy import tidy_tables
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.wording import split_list


def merge(step: Merge, tables: Inputs, wanted: Collection[str]) -> Result:
    """Merge the added tables into the base, one after the other."""
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
        result = pairing.make_table(overlap)
        origin = origin.extend(added.name, pairing.base_rows, pairing.added_rows)
        near_misses = pairing.find_likely_partners() if not (step.near or step.during) else {}
        accounts.append(pairing.make_account(result, overlap, near_misses))
        unmatched += [pairing.list_unmatched(near_misses)] if "unmatched" in wanted else []
        conflicts += [overlap.conflicts] if overlap.conflicts is not None else []
    if step.status:
        result = origin.add_status(result, step.status)
    extras = {"unmatched": stack_texts(unmatched), "conflicts": stack_texts(conflicts)}
    return Result(
        result, combine_accounts(accounts), {name: table for name, table in extras.items() if table is not None}
    )


def pair_rows(step: Merge, key: KeyPairs, base: Table, added: Table) -> Pairing:
    """Match the rows of two tables, and require the expected relationship."""
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
    pairing.require_expected()
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
    return [Note(f"{pluralize(keys, 'key')} of the base matched only this way.", kind="tidied", count=keys)]
