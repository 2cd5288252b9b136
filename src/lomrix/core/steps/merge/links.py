"""Links: ids that changed between waves, joined by a file from old ids to new ones."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import matching
from lomrix.core.arrays.types import Mask
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import encode_key_pairs, format_keys
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.merge.origin import UNMATCHED_HEADS
from lomrix.core.steps.merge.settings import KeyPairs
from lomrix.core.table.column import choose_cells, common_type
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import make_text_table, read_text_rows

if TYPE_CHECKING:
    from lomrix.core.steps.parts import Store

KEY, PARTNER = "key", "likely_partner"


def apply_links(
    base: Table, links: Table, added: Table, key: KeyPairs, size: int, make_store: Callable[[], Store]
) -> tuple[Table, KeyPairs, Account]:
    """Give the base the new ids of its old ones, `size` rows at a time; returns it with the key to merge by and the
    account of the links.

    `key` is one pair: the name of the base's old ids, and of the added table's new ones; `links` has both columns.

    Raises DataError if an old id leads to several new ones, or several lead to one. Raises UsageError if the links do
    not fit the key.
    """
    is_unmatched_file = set(UNMATCHED_HEADS) <= set(links.names)
    old, new = key[0]
    if len(key) != 1 or (old == new and not is_unmatched_file):
        raise UsageError("Links lead from one id to another.", todo="Use ‹key=old_id=new_id›, as the links name them.")
    if is_unmatched_file:
        links = read_unmatched(links, base.name, old, new)
    if old != new:
        require_new_name(new, base.names, "the linked id")
    source, target = (old, new) if old != new else (KEY, PARTNER)
    for name in (source, target):
        _require_single(links, name)
    linking, store = Linking(base, links, old, new, source, target), make_store()
    for block in base.split(size):
        store.append(linking.link(block))
    arrives = np.zeros(len(links), np.bool_)
    for block in added.split(size):
        arrives |= _is_shared(links, target, block, new)
    return replace(store.finish(), row_numbers=None), ((new, new),), linking.make_account(added, arrives)


class Linking:
    """The base being linked some rows at a time; counts what becomes of its rows, and of the links."""

    def __init__(self, base: Table, links: Table, old: str, new: str, source: str, target: str) -> None:
        self.base, self.links = base, links
        self.old, self.new, self.source, self.target = old, new, source, target
        self.is_complete = ~links[source].is_missing & ~links[target].is_missing
        self.type_ = common_type((base[old], links[target]), keeps_whole=True) or "string"
        self.is_used = np.zeros(len(links), np.bool_)
        self.linked = self.kept = self.clashing = 0
        self.first_clashes: list[tuple[int, str]] = []

    def link(self, block: Table) -> Table:
        """Return some rows of the base with their new ids."""
        keys = encode_key_pairs(block, self.links, ((self.old, self.source),))
        link_codes = np.where(self.is_complete, keys.added, -1)
        counts = matching.Counts.count(keys.base, link_codes, keys.size)
        _, link_rows = matching.match_rows(keys.base, link_codes, keys.size, counts)
        self.is_used |= counts.shared_by_base(link_codes)
        # An id without a link stays, unless it is the new id of someone else.
        clashes = _is_shared(block, self.old, self.links, self.target) & (link_rows < 0)
        keeps_id = (link_rows < 0) & ~clashes & ~block[self.old].is_missing
        self.linked += int(np.count_nonzero(link_rows >= 0))
        self.kept += int(np.count_nonzero(keeps_id))
        self.clashing += int(np.count_nonzero(clashes))
        first = np.flatnonzero(clashes)[: MOST_EXAMPLES - len(self.first_clashes)]
        self.first_clashes += block.show_rows(first, format_keys(block, [self.old], first))
        linked = self.links[self.target].widen(self.type_).take_or(link_rows, UNMATCHED)
        ids = choose_cells(linked, block[self.old].widen(self.type_), keeps_id)
        return replace(block, columns={**block.columns, self.new: ids})

    def make_account(self, added: Table, arrives: Mask) -> Account:
        """Count the rows of the base and the links, given which new ids the added table has."""
        rows = (
            Part("changed", self.linked, "linked"),
            Part("kept", self.kept, "own-id"),
            Part("missing", len(self.base) - self.linked - self.kept, "no-id"),
        )
        is_broken = self.is_used & ~arrives
        links = (
            Part("kept", int(np.count_nonzero(self.is_used & arrives)), "arriving", added.name),
            Part("unused", int(np.count_nonzero(is_broken)), "not-arriving", added.name),
            Part("unused", int(np.count_nonzero(~self.is_used & self.is_complete)), "not-needed"),
            Part("missing", int(np.count_nonzero(~self.is_complete)), "incomplete"),
        )
        count = f"{self.linked:,} of {pluralize(len(self.base), 'row')} of {self.base.name}"
        return Account(
            "through",
            f"{count} linked from {self.old} to {self.new} by {self.links.name}.",
            (
                Balance("rows", len(self.base), rows, self.base.name),
                Balance("links", len(self.links), links, self.links.name),
            ),
            {"rows": len(self.base), "relationship": "one-to-one"},
            (),
            (*self.note_clashes(), *_note_broken_links(self.links, self.target, is_broken, added)),
        )

    def note_clashes(self) -> list[Note]:
        """Note ids without a link that are the new ones of others."""
        if not self.clashing:
            return []
        text = f"has no link, but is the new id of another in {self.links.name}: it stays unmatched."
        return [Note(text, self.old, tuple(self.first_clashes), "clash", self.clashing)]


def _is_shared(first: Table, first_name: str, second: Table, second_name: str) -> npt.NDArray[np.bool_]:
    """Return which rows of the first table have an id of the second."""
    codes = encode_key_pairs(first, second, ((first_name, second_name),))
    return matching.Counts.count(codes.base, codes.added, codes.size).shared(codes.base)


def read_unmatched(unmatched: Table, base: str, old: str, new: str) -> Table:
    """Make links from the unmatched-keys file of a merge, as filled in or corrected by a person."""
    rows = [row for row in read_text_rows(unmatched) if row["file"] == base and row["likely_partner"]]
    heads = (old, new) if old != new else (KEY, PARTNER)
    return make_text_table(heads, [[row["key"], row["likely_partner"]] for row in rows], unmatched.name)


def _require_single(links: Table, name: str) -> None:
    keys = encode_key_pairs(links, links, ((name, name),))
    counts = np.bincount(keys.base[keys.base >= 0], minlength=keys.size)
    rows = np.flatnonzero(np.append(counts > 1, False)[keys.base])
    if len(rows):
        first_rows = rows[:MOST_EXAMPLES]
        texts = format_keys(links, [name], first_rows)
        shown = ", ".join(
            f"{text} (row {row + links.first_row})" for text, row in zip(texts, first_rows.tolist(), strict=True)
        )
        raise DataError(
            f"The links are ambiguous: {name} repeats in {links.name}.", where=shown, todo="Keep one link for each id."
        )


def _note_broken_links(links: Table, name: str, broken: npt.NDArray[np.bool_], added: Table) -> list[Note]:
    rows = np.flatnonzero(broken)[:MOST_EXAMPLES]
    if not len(rows):
        return []
    texts = format_keys(links, [name], rows)
    examples = links.show_rows(rows, texts)
    return [
        Note(f"broken links: their new id is not in {added.name}.", name, examples, "broken-link", int(broken.sum()))
    ]
