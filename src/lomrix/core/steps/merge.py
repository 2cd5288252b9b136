"""Merge: add variables to a base table by key."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lomrix.core.arrays import matching
from lomrix.core.errors import UsageError
from lomrix.core.steps.account import Account
from lomrix.core.steps.keys import KeyPairs, PairedKeys, paired_keys
from lomrix.core.steps.merge_result import Merged, Origin, joined_accounts, stacked_texts
from lomrix.core.steps.overlap import SECOND_NAME, OverlapRule, resolved_overlap
from lomrix.core.steps.pairing import Pairing, Relationship, RowsKept
from lomrix.core.steps.step import Step
from lomrix.core.steps.through import linked
from lomrix.core.steps.tidy import tidied_tables
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.selection import chosen_columns, columns_by_name
from lomrix.core.table.table import Table, require_free

# So many rows of many-to-many keys are more likely a slip than a wish.
MOST_ROWS = 20_000_000


class Merge(Step):
    """Bring the columns of one table to another by equal keys; the base's order is kept.

    Parameters
    ----------
    key
        Pairs of column names: in the base, in the added table.
    expect
        The relationship the keys should have. Any but many-to-many is taken where none is named.
    rows
        Which rows are kept: `all`, those `matched`, or those of the `base`.
    overlap
        What happens to columns of the same name: `check`, `base`, `added`, `fill` or `both`.
    second_name
        Under `both`, the name of the added table's column: `{column}` and `{file}` are filled in.
    status
        Name of a column that says where each row came from.
    take
        Which columns of the added tables are brought; all where empty.
    tidy
        What does not count when keys are compared: `blanks`, `case`, `zeros`.
    suggest
        Look for the likely partners of keys without one.
    list_unmatched
        Give a table of all keys without a partner.
    through
        The last table holds links from the base's ids to those of the added table.
    most_rows
        More rows than this are not made of many-to-many keys.
    """

    key: KeyPairs
    expect: Relationship | None = None
    rows: RowsKept = "all"
    overlap: OverlapRule = "check"
    second_name: str = SECOND_NAME
    status: str = ""
    take: str = ""
    tidy: tuple[str, ...] = ()
    suggest: bool = True
    list_unmatched: bool = False
    through: bool = False
    most_rows: int = MOST_ROWS

    @property
    def kept_together(self) -> tuple[str, ...]:
        """The key columns of the base."""
        return tuple(base for base, _ in self.key)

    def columns_needed(self, place: int, names: list[str]) -> list[str] | None:
        """All of the base; of the added table the keys and what is taken."""
        if place == 0 or not self.take or self.through:
            return None
        return columns_by_name(",".join([self.take, *(added for _, added in self.key), *self.also_taken()]), names)

    def apply(self, *tables: Table) -> Merged:
        """Merge the second table into the first, the third into the result, and so on."""
        base, *rest = tables
        if not self.key:
            raise UsageError("No key is named.", todo="Say --key with the column that the files share.")
        if self.status:
            require_free(self.status, [name for table in tables for name in table.names], "the status column")
        made, origin = base, Origin.of(base)
        accounts: list[Account] = []
        key = self.key
        if self.through:
            *rest, links = rest
            made, key, account = linked(base, links, rest[0], self.key)
            accounts.append(account)
        unmatched: list[Table] = []
        conflicts: list[Table] = []
        for added in rest:
            work = self.model_copy(update={"key": key}).paired(made, added)
            overlap = resolved_overlap(
                self.overlap, work.base, work.added, key, work.base_rows, work.added_rows, self.second_name
            )
            made = work.table(overlap)
            origin = origin.extended(added.name, work.base_rows, work.added_rows)
            near = work.near_misses() if self.suggest else {}
            accounts.append(work.account(made, overlap, near))
            unmatched += [work.unmatched(near)] if self.list_unmatched else []
            conflicts += [overlap.conflicts] if overlap.conflicts is not None else []
        if self.status:
            made = origin.with_status(made, self.status)
        return Merged(made, joined_accounts(accounts), stacked_texts(unmatched), stacked_texts(conflicts))

    def paired(self, base: Table, added: Table) -> Pairing:
        """The rows of two tables side by side, held to what was expected."""
        added = self._taken(added)
        notes: list[Note] = []
        one, two = base, added
        if self.tidy:
            one, two, notes = tidied_tables(base, added, self.key, self.tidy)
        keys = paired_keys(one, two, self.key)
        if self.tidy:
            exact = paired_keys(base, added, self.key)
            notes = [*notes, *brought_together(exact, keys)]
        work = self._pairing(base, added, replace(keys, notes=(*keys.notes, *notes)))
        work.hold_to_expectation()
        return work

    def _pairing(self, base: Table, added: Table, keys: PairedKeys) -> Pairing:
        return Pairing(self, base, added, keys)

    def also_taken(self) -> tuple[str, ...]:
        """Columns of the added table that are brought whatever was chosen."""
        return ()

    def _taken(self, added: Table) -> Table:
        if not self.take:
            return added
        keys = [*(name for _, name in self.key), *self.also_taken()]
        chosen = chosen_columns(self.take, added.types(), added.name)
        return added.only([*keys, *(name for name in chosen if name not in keys)])


def brought_together(exact: PairedKeys, tidy: PairedKeys) -> list[Note]:
    """How many keys of the base found a partner only by tidying."""
    before = matching.Counts.of(exact.base, exact.added, exact.size).shared(exact.base)
    after = matching.Counts.of(tidy.base, tidy.added, tidy.size).shared(tidy.base)
    gained = after & ~before
    keys = len(np.unique(exact.base[gained]))
    return [Note(f"{counted(keys, 'key', 'keys')} of the base found a partner only so.", kind="tidied", count=keys)]
