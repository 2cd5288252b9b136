"""Merge a small table with unique keys into a large base, whose rows then find their partners each on its own.

A division by key would share out all rows of the base, and leave those of a frequent key together.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import count_codes
from lomrix.core.combining import MOST_EXAMPLES, First, Shown, combine_all
from lomrix.core.rows.keys import encode_rows, locate_rows, show_repeated
from lomrix.core.rows.occurrences import DistinctRows, is_unique, take_numbered
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.merge.each import require_known_columns
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.run import Merging, Tally, add_partners
from lomrix.core.steps.merge.settings import KeyPairs, Merge
from lomrix.core.steps.merge.sides import Sides
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.renaming import concatenate_tables, join_in_row_order
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.combining import Run
    from lomrix.core.steps.parts import Store

# The added table, and the distinct keys of the base, have at most this share of the rows of a part.
SMALL = 0.25


def merge_lookup(
    step: Merge, tables: Inputs, wanted: Collection[str], size: int, make_store: Callable[[], Store], run: Run
) -> Result | None:
    """Merge block by block; None if the tables do not allow that."""
    base, added = tables.get_one("base"), tables.get_one("added")
    key = step.pairs_of(added.name)
    step.require_files([added.name])
    require_known_columns(step, [added])
    if not is_lookup(step, key, base, added, size):
        return None
    blocks = list(base.split(size))
    if len(survey_keys(blocks[0], key).counts) * len(blocks) > SMALL * size:
        return None
    known = combine_all(run(survey_keys, ((block, key) for block in blocks)))
    pairing = Merging(step, key, known.table, added).pairing
    sides = describe_sides(pairing, known, blocks)
    if (violation := sides.find_violation(step)) is not None:
        raise violation
    store, done = make_store(), list[tuple[Account, Tally]]()
    conflicts: list[Table] = []
    alone = take_numbered(added, np.flatnonzero(~pairing.added_matched))
    last = Merging(step, key, base.slice(0, 0), alone).run(())
    merged = run(merge_block, ((step, key, block, added) for block in blocks))
    for result in itertools.chain(merged, [last]):
        store.append(replace(result.table, row_numbers=None))
        done.append((result.account, result.tally))
        conflicts += [result.extras["conflicts"]] if "conflicts" in result.extras else []
    extras = {}
    if "unmatched" in wanted:
        extras["unmatched"] = add_partners(step, replace(pairing.list_unmatched(known.counts), sides=sides))
    if conflicts:
        extras["conflicts"] = replace(join_in_row_order(conflicts), row_numbers=None)
    account = complete_account(combine_all(account for account, _ in done), pairing, last.account)
    return Result(store.finish(), account, extras, tally=complete_tally([tally for _, tally in done], sides))


def is_lookup(step: Merge, key: KeyPairs, base: Table, added: Table, size: int) -> bool:
    """Return whether rows of the base can look for their partners on their own."""
    others = [(name, name) for name in base.names if name in added.columns]
    return (
        len(base) > size
        and len(added) <= SMALL * size
        and not (step.near or step.during or step.tidy_keys or base.name == added.name)
        and all(first in base.columns and second in added.columns for first, second in key)
        and all(base[first].type == added[second].type for first, second in (*key, *others))
        and is_unique(added.take(find_complete_rows(added, key)), [second for _, second in key])
    )


def find_complete_rows(added: Table, key: KeyPairs) -> npt.NDArray[np.int64]:
    """Return the rows of the added table without a missing key."""
    return np.flatnonzero(np.logical_and.reduce([~added[second].is_missing for _, second in key]))


def survey_keys(block: Table, key: KeyPairs) -> DistinctRows:
    """Return the distinct keys of some rows of the base."""
    return DistinctRows.of(block.only([first for first, _ in key]))


def merge_block(step: Merge, key: KeyPairs, block: Table, added: Table) -> Result:
    """Merge the partners of some rows of the base into them."""
    merging = Merging(step, key, block, added)
    keys, matched = merging.pairing.keys, np.flatnonzero(merging.pairing.added_matched)
    partners = take_numbered(merging.pairing.added, matched)
    merging = Merging(step, key, block, partners)
    merging.pairing = Pairing(step, key, block, partners, replace(keys, added=keys.added[matched]))
    return merging.run(())


def describe_sides(pairing: Pairing, known: DistinctRows, blocks: Sequence[Table]) -> Sides:
    """Return what is known of the keys of both sides, given the pairs of the base's distinct keys."""
    sides, numbers = pairing.sides, known.table.number_rows(np.arange(len(known.counts)))
    counts = dict(zip(numbers, known.counts.tolist(), strict=True))
    unmatched = tuple((row, (text, counts[row])) for row, (text, _) in sides.base.first_unmatched.items)
    repeated = np.flatnonzero(known.counts > 1)
    repeating = Shown([], 0, separator="; ")
    if len(repeated):
        rows = find_rows_of_keys(known.table.take(repeated[:MOST_EXAMPLES]), blocks)
        codes, size = encode_rows(rows, tuple(rows.names))
        shown = show_repeated(rows, rows.names, codes, count_codes(codes, size))
        repeating = Shown(shown.items, len(repeated), separator="; ")
    return replace(sides, base=replace(sides.base, first_unmatched=First(unmatched), repeating=repeating))


def find_rows_of_keys(keys: Table, blocks: Sequence[Table]) -> Table:
    """Return the first rows of each of a few keys, one more than are shown, with their numbers."""
    found: list[Table] = []
    counts = np.zeros(len(keys), np.int64)
    for block in blocks:
        codes = locate_rows(keys, block.only(keys.names))
        chosen = [np.flatnonzero(codes == code)[: MOST_EXAMPLES + 1 - counts[code]] for code in range(len(keys))]
        rows = np.sort(np.concatenate(chosen))
        found.append(take_numbered(block.only(keys.names), rows))
        counts += np.bincount(codes[rows], minlength=len(keys))
        if (counts > MOST_EXAMPLES).all():
            break
    return concatenate_tables(found)


def complete_account(account: Account, pairing: Pairing, last: Account) -> Account:
    """Replace what the parts counted several times: keys, and rows of the added table."""
    of_added, of_keys = find_balance(last, "rows", pairing.added.name), pairing.balance_keys()[0]
    matched = int(np.count_nonzero(pairing.added_matched))
    parts = (replace(of_added.parts[0], count=matched), *of_added.parts[1:])
    exact = {
        ("rows", pairing.added.name): replace(of_added, total=len(pairing.added), parts=parts),
        (of_keys.what, of_keys.of): of_keys,
    }
    balances = tuple(exact.get((balance.what, balance.of), balance) for balance in account.balances)
    return replace(account, balances=balances)


def find_balance(account: Account, what: str, of: str) -> Balance:
    """Return a balance of an account."""
    return next(balance for balance in account.balances if (balance.what, balance.of) == (what, of))


def complete_tally(tallies: Sequence[Tally], sides: Sides) -> Tally:
    """Return the tally of all parts, with the keys as they are known of the whole."""
    tally = combine_all(tallies)
    return replace(tally, sides=replace(sides, pairs=tally.sides.pairs, base_not_once=tally.sides.base_not_once))
