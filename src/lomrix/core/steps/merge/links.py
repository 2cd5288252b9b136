"""Links: ids that changed between waves, joined by a file from old ids to new ones."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import matching
from lomrix.core.arrays.types import Array
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

KEY, PARTNER = "key", "likely_partner"


def apply_links(base: Table, links: Table, added: Table, key: KeyPairs) -> tuple[Table, KeyPairs, Account]:
    """Give the base the new ids of its old ones; returns it with the key to merge by and the account of the links.

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
    linking = Linking(base, links, added, old, new, source, target)
    return linking.make_table(), ((new, new),), linking.make_account()


@dataclass
class Linking:
    """The base, the links and the added table, with the names of their ids."""

    base: Table
    links: Table
    added: Table
    old: str  # of the base
    new: str  # of the added table
    source: str  # the old ids of the links
    target: str  # their new ids

    def __post_init__(self) -> None:
        self.is_complete = ~self.links[self.source].is_missing & ~self.links[self.target].is_missing
        keys = encode_key_pairs(self.base, self.links, ((self.old, self.source),))
        link_codes = np.where(self.is_complete, keys.added, -1)
        counts = matching.Counts.count(keys.base, link_codes, keys.size)
        _, self.link_rows = matching.match_rows(keys.base, link_codes, keys.size, counts)
        self.is_used = counts.shared_by_base(link_codes)
        # An id without a link stays, unless it is the new id of someone else.
        self.clashes = _is_shared(self.base, self.old, self.links, self.target) & (self.link_rows < 0)
        self.keeps_id = (self.link_rows < 0) & ~self.clashes & ~self.base[self.old].is_missing

    def make_table(self) -> Table:
        """Return the base with its new ids."""
        old_ids, new_ids = self.base[self.old], self.links[self.target]
        type_ = common_type((old_ids, new_ids), keeps_whole=True) or "string"
        linked = new_ids.widen(type_).take_or(self.link_rows, UNMATCHED)
        columns = {**self.base.columns, self.new: choose_cells(linked, old_ids.widen(type_), self.keeps_id)}
        return Table(columns, self.base.dictionary, name=self.base.name, first_row=self.base.first_row)

    def make_account(self) -> Account:
        """Count the rows of the base and the links."""
        linked, kept = int(np.count_nonzero(self.link_rows >= 0)), int(np.count_nonzero(self.keeps_id))
        without_id = int(np.count_nonzero((self.link_rows < 0) & ~self.keeps_id))
        rows = (Part("changed", linked, "linked"), Part("kept", kept, "own-id"), Part("missing", without_id, "no-id"))
        arrives = _is_shared(self.links, self.target, self.added, self.new)
        is_broken = self.is_used & ~arrives
        links = (
            Part("kept", int(np.count_nonzero(self.is_used & arrives)), "arriving", self.added.name),
            Part("unused", int(np.count_nonzero(is_broken)), "not-arriving", self.added.name),
            Part("unused", int(np.count_nonzero(~self.is_used & self.is_complete)), "not-needed"),
            Part("missing", int(np.count_nonzero(~self.is_complete)), "incomplete"),
        )
        count = f"{linked:,} of {pluralize(len(self.base), 'row')} of {self.base.name}"
        return Account(
            "through",
            f"{count} linked from {self.old} to {self.new} by {self.links.name}.",
            (
                Balance("rows", len(self.base), rows, self.base.name),
                Balance("links", len(self.links), links, self.links.name),
            ),
            {"rows": len(self.base), "relationship": "one-to-one"},
            (),
            (
                *_note_clashes(self.base, self.old, np.flatnonzero(self.clashes), self.links),
                *_note_broken_links(self.links, self.target, is_broken, self.added),
            ),
        )


def _is_shared(first: Table, first_name: str, second: Table, second_name: str) -> npt.NDArray[np.bool_]:
    """Return which rows of the first table have an id of the second."""
    codes = encode_key_pairs(first, second, ((first_name, second_name),))
    return matching.Counts.count(codes.base, codes.added, codes.size).shared(codes.base)


def read_unmatched(unmatched: Table, base: str, old: str, new: str) -> Table:
    """Make links from the unmatched-keys file of a merge, as filled in or corrected by a person."""
    rows = [row for row in read_text_rows(unmatched) if row["file"] == base and row["likely_partner"]]
    heads = (old, new) if old != new else (KEY, PARTNER)
    return make_text_table(heads, [[row["key"], row["likely_partner"]] for row in rows], unmatched.name)


def _note_clashes(base: Table, old: str, rows: Array, links: Table) -> list[Note]:
    if not len(rows):
        return []
    first_rows = rows[:MOST_EXAMPLES]
    examples = base.show_rows(first_rows, format_keys(base, [old], first_rows))
    text = f"has no link, but is the new id of another in {links.name}: it stays unmatched."
    return [Note(text, old, examples, "clash", len(rows))]


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
