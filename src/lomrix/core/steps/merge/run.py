"""Bring the columns of one table after the other to the base, each with an account of its own."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np

from lomrix.core.arrays import matching
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import PairedKeys, paired_keys
from lomrix.core.steps.account import Account
from lomrix.core.steps.merge.links import linked
from lomrix.core.steps.merge.nearest_pairing import NearestPairing
from lomrix.core.steps.merge.origin import Origin, joined_accounts, stacked_texts
from lomrix.core.steps.merge.overlap import resolved_overlap
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import KeyPairs, Merge
from lomrix.core.steps.merge.tidy import tidied_tables
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.wording import listed


def merged(step: Merge, tables: Inputs, wanted: Collection[str]) -> Result:
    """Merge the added tables into the base, one after the other."""
    base, added_tables, links = tables.one("base"), tables.many("added"), tables.maybe("links")
    if step.status:
        require_free(step.status, [name for table in tables for name in table.names], "the status column")
    step.require_files([table.name for table in added_tables])
    require_taken(step, added_tables)
    made, origin, key = base, Origin.of(base, len(added_tables), has_status=bool(step.status)), step.pairs
    accounts: list[Account] = []
    if links is not None:
        made, key, account = linked(base, links, added_tables[0], key)
        accounts.append(account)
    unmatched: list[Table] = []
    conflicts: list[Table] = []
    for added in added_tables:
        own = key if links is not None else step.pairs_of(added.name)
        work = paired(step, own, made, added)
        overlap = resolved_overlap(step, work.base, work.added, own, work.base_rows, work.added_rows, work.key_column)
        made = work.table(overlap)
        origin = origin.extended(added.name, work.base_rows, work.added_rows)
        near = work.likely_partners() if not step.near else {}
        accounts.append(work.account(made, overlap, near))
        unmatched += [work.unmatched(near)] if "unmatched" in wanted else []
        conflicts += [overlap.conflicts] if overlap.conflicts is not None else []
    if step.status:
        made = origin.with_status(made, step.status)
    extras = {"unmatched": stacked_texts(unmatched), "conflicts": stacked_texts(conflicts)}
    return Result(made, joined_accounts(accounts), {name: table for name, table in extras.items() if table is not None})


def paired(step: Merge, key: KeyPairs, base: Table, added: Table) -> Pairing:
    """The rows of two tables side by side, held to what was expected."""
    added = taken(step, key, added)
    notes: list[Note] = []
    one, two = base, added
    if step.tidy_keys:
        one, two, notes = tidied_tables(base, added, key, step.tidy_keys)
    keys = paired_keys(one, two, key)
    if step.tidy_keys:
        exact = paired_keys(base, added, key)
        notes = [*notes, *brought_together(exact, keys)]
    keys = replace(keys, notes=(*keys.notes, *notes))
    near = step.nearness
    work = Pairing(step, key, base, added, keys) if near is None else NearestPairing(step, key, base, added, keys, near)
    work.hold_to_expectation()
    return work


def taken(step: Merge, key: KeyPairs, added: Table) -> Table:
    """The added table with its keys and the columns that were asked for."""
    if not step.take:
        return added
    near = step.nearness
    always = [*(name for _, name in key), *([near.added] if near is not None else [])]
    chosen = [name for word in listed(step.take) for name in taken_by(word, added)]
    return added.only([*always, *(name for name in chosen if name not in always)])


def taken_by(word: str, added: Table) -> list[str]:
    """The columns of a table that one word of a choice names, which may be none."""
    try:
        return chosen_columns(word, added.types(), added.name)
    except UsageError:
        return []


def require_taken(step: Merge, tables: Sequence[Table]) -> None:
    """Stop where a word of the choice names no column of any added table.

    Raises
    ------
    UsageError
        As the last of the tables says it.
    """
    for word in listed(step.take):
        if not any(taken_by(word, table) for table in tables):
            chosen_columns(word, tables[-1].types(), tables[-1].name)


def brought_together(exact: PairedKeys, tidy: PairedKeys) -> list[Note]:
    """How many keys of the base found a partner only by tidying."""
    before = matching.Counts.of(exact.base, exact.added, exact.size).shared(exact.base)
    after = matching.Counts.of(tidy.base, tidy.added, tidy.size).shared(tidy.base)
    gained = after & ~before
    keys = len(np.unique(exact.base[gained]))
    return [Note(f"{counted(keys, 'key', 'keys')} of the base found a partner only so.", kind="tidied", count=keys)]
