"""Links: ids that changed between waves, joined by a file from old ids to new ones."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import matching
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import encode_key_pairs, format_keys
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.merge.origin import UNMATCHED_HEADS
from lomrix.core.steps.merge.settings import KeyPairs
from lomrix.core.table.column import choose_cells, common_type
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import make_text_table, read_text_rows

MOST_EXAMPLES = 5
KEY, PARTNER = "key", "likely_partner"


def apply_links(base: Table, links: Table, added: Table, key: KeyPairs) -> tuple[Table, KeyPairs, Account]:
    """Give the base the new ids of its old ones.

    Raises DataError if an old id leads to several new ones, or several lead to one. Raises UsageError if the links do
    not fit the key.

    Parameters
    ----------
    base
        Holds the old ids.
    links
        Holds old and new ids, in columns named as the base's and the added table's keys are.
    added
        Holds the new ids.
    key
        One pair: name of the old ids, name of the new ones.

    Returns
    -------
    The base with the new ids, the key to merge by, and the account of the links.
    """
    if len(key) != 1:
        raise UsageError("Links lead from one id to another.", todo="Use ‹key=old_id=new_id›, as the links name them.")
    old, new = key[0]
    if set(UNMATCHED_HEADS) <= set(links.names):
        links = read_unmatched(links, base.name, old, new)
    elif old == new:
        raise UsageError("Links lead from one id to another.", todo="Use ‹key=old_id=new_id›, as the links name them.")
    if old != new:
        require_new_name(new, base.names, "the linked id")
    source, target = (old, new) if old != new else (KEY, PARTNER)
    for name in (source, target):
        _require_single(links, name)
    is_complete = ~links[source].is_missing & ~links[target].is_missing
    keys = encode_key_pairs(base, links, ((old, source),))
    link_codes = np.where(is_complete, keys.added, -1)
    counts = matching.Counts.count(keys.base, link_codes, keys.size)
    _, link_rows = matching.match_rows(keys.base, link_codes, keys.size, counts)
    # An id without a link stays, unless it is the new id of someone else.
    new_id_codes = encode_key_pairs(base, links, ((old, target),))
    clashes = matching.Counts.count(new_id_codes.base, new_id_codes.added, new_id_codes.size).shared(
        new_id_codes.base
    ) & (link_rows < 0)
    keeps_id = (link_rows < 0) & ~clashes & ~base[old].is_missing
    type_ = common_type((base[old], links[target]), keeps_whole=True) or "string"
    new_ids = links[target].widen(type_).take_or(link_rows, UNMATCHED)
    column = choose_cells(new_ids, base[old].widen(type_), keeps_id)
    result = Table({**base.columns, new: column}, base.dictionary, name=base.name, first_row=base.first_row)
    target_codes = encode_key_pairs(links, added, ((target, new),))
    arriving = matching.Counts.count(target_codes.base, target_codes.added, target_codes.size).shared(target_codes.base)
    used = matching.Counts.count(keys.base, link_codes, keys.size).shared_by_base(link_codes)
    linked_rows, kept = int(np.count_nonzero(link_rows >= 0)), int(np.count_nonzero(keeps_id))
    without_id = int(np.count_nonzero((link_rows < 0) & ~keeps_id))
    account = Account(
        "through",
        f"{linked_rows:,} of {len(base):,} rows of {base.name} were led from {old} to {new} by {links.name}.",
        (
            Balance("rows", len(base), (Part("changed", linked_rows, "linked"), Part("kept", kept, "own-id"),
                                        Part("missing", without_id, "no-id")), base.name),
            Balance("links", len(links), (
                Part("kept", int(np.count_nonzero(used & arriving)), "arriving", added.name),
                Part("unused", int(np.count_nonzero(used & ~arriving)), "not-arriving", added.name),
                Part("unused", int(np.count_nonzero(~used & is_complete)), "not-needed"),
                Part("missing", int(np.count_nonzero(~is_complete)), "incomplete"),
            ), links.name),
        ),
        {"rows": len(result), "relationship": "one-to-one"},
        (),
        (*_note_clashes(base, old, np.flatnonzero(clashes), links),
         *_note_broken_links(links, target, used & ~arriving, added)),
    )  # fmt: skip
    return result, ((new, new),), account


def read_unmatched(unmatched: Table, base: str, old: str, new: str) -> Table:
    """Make links from the unmatched-keys file of a merge, as filled in or corrected by a person."""
    rows = [row for row in read_text_rows(unmatched) if row["file"] == base and row["likely_partner"]]
    heads = (old, new) if old != new else (KEY, PARTNER)
    return make_text_table(heads, [[row["key"], row["likely_partner"]] for row in rows], unmatched.name)


def _note_clashes(base: Table, old: str, rows: Array, links: Table) -> list[Note]:
    if not len(rows):
        return []
    first_rows = rows[:MOST_EXAMPLES]
    examples = tuple(zip((first_rows + base.first_row).tolist(), format_keys(base, [old], first_rows), strict=True))
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
    examples = tuple(zip((rows + links.first_row).tolist(), texts, strict=True))
    return [
        Note(f"broken links: their new id is not in {added.name}.", name, examples, "broken-link", int(broken.sum()))
    ]
