"""Through: ids that changed between waves, joined by a file of links from old ids to new ones."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import matching
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, paired_keys
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.merge.origin import UNMATCHED_HEADS
from lomrix.core.steps.merge.settings import KeyPairs
from lomrix.core.table.column import common_type, either
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.texts import rows_of, table_of_texts

MOST_EXAMPLES = 5
KEY, PARTNER = "key", "likely_partner"


def linked(base: Table, links: Table, added: Table, key: KeyPairs) -> tuple[Table, KeyPairs, Account]:
    """Give the base the new ids of its old ones.

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

    Raises
    ------
    DataError
        Where an old id leads to several new ones, or several lead to one.
    UsageError
        Where the links do not fit the key.
    """
    if len(key) != 1:
        raise UsageError("Links lead from one id to another.", todo="Say ‹key=old_id=new_id›, as the links name them.")
    old, new = key[0]
    if set(UNMATCHED_HEADS) <= set(links.names):
        links = links_of_unmatched(links, base.name, old, new)
    elif old == new:
        raise UsageError("Links lead from one id to another.", todo="Say ‹key=old_id=new_id›, as the links name them.")
    if old != new:
        require_free(new, base.names, "the linked id")
    source, target = (old, new) if old != new else (KEY, PARTNER)
    for name in (source, target):
        _require_single(links, name)
    links_whole = ~links[source].is_missing & ~links[target].is_missing
    keys = paired_keys(base, links, ((old, source),))
    link_codes = np.where(links_whole, keys.added, -1)
    counts = matching.Counts.of(keys.base, link_codes, keys.size)
    _, link_rows = matching.matched_rows(keys.base, link_codes, keys.size, counts)
    # An id without a link stays what it is, but for one that is the new id of somebody else.
    taken = paired_keys(base, links, ((old, target),))
    clashes = matching.Counts.of(taken.base, taken.added, taken.size).shared(taken.base) & (link_rows < 0)
    own = (link_rows < 0) & ~clashes & ~base[old].is_missing
    type_ = common_type((base[old], links[target]), keeps_whole=True) or "string"
    found = links[target].widened(type_).take_or(link_rows, UNMATCHED)
    column = either(found, base[old].widened(type_), own)
    made = Table({**base.columns, new: column}, base.dictionary, name=base.name, first_row=base.first_row)
    to = paired_keys(links, added, ((target, new),))
    arriving = matching.Counts.of(to.base, to.added, to.size).shared(to.base)
    used = matching.Counts.of(keys.base, link_codes, keys.size).shared_by_base(link_codes)
    linked_rows, kept = int(np.count_nonzero(link_rows >= 0)), int(np.count_nonzero(own))
    rest = int(np.count_nonzero((link_rows < 0) & ~own))
    account = Account(
        "through",
        f"{linked_rows:,} of {len(base):,} rows of {base.name} were led from {old} to {new} by {links.name}.",
        (
            Balance(f"rows of {base.name}", len(base),
                    (("with the new id", linked_rows), ("with their own id", kept), ("without an id", rest))),
            Balance(f"links of {links.name}", len(links),
                    ((f"lead to a row of {added.name}", int(np.count_nonzero(used & arriving))),
                     (f"lead to no row of {added.name}", int(np.count_nonzero(used & ~arriving))),
                     ("not needed", int(np.count_nonzero(~used & links_whole))),
                     ("without old or new id", int(np.count_nonzero(~links_whole))))),
        ),
        {"rows": len(made), "relationship": "one-to-one"},
        (),
        (*_clashing(base, old, np.flatnonzero(clashes), links),
         *_examples(links, target, used & ~arriving, added)),
    )  # fmt: skip
    return made, ((new, new),), account


def links_of_unmatched(unmatched: Table, base: str, old: str, new: str) -> Table:
    """Links from the file of unmatched keys that a merge writes, likely partners filled in or mended by a person."""
    rows = [row for row in rows_of(unmatched) if row["file"] == base and row["likely_partner"]]
    heads = (old, new) if old != new else (KEY, PARTNER)
    return table_of_texts(heads, [[row["key"], row["likely_partner"]] for row in rows], unmatched.name)


def _clashing(base: Table, old: str, rows: Array, links: Table) -> list[Note]:
    if not len(rows):
        return []
    some = rows[:MOST_EXAMPLES]
    examples = tuple(zip((some + base.first_row).tolist(), key_texts(base, [old], some), strict=True))
    text = f"has no link, and is the new id of another in {links.name}: it stays without a partner."
    return [Note(text, old, examples, "clash", len(rows))]


def _require_single(links: Table, name: str) -> None:
    keys = paired_keys(links, links, ((name, name),))
    counts = np.bincount(keys.base[keys.base >= 0], minlength=keys.size)
    rows = np.flatnonzero(np.append(counts > 1, False)[keys.base])
    if len(rows):
        some = rows[:MOST_EXAMPLES]
        texts = key_texts(links, [name], some)
        told = ", ".join(
            f"{text} (row {row + links.first_row})" for text, row in zip(texts, some.tolist(), strict=True)
        )
        raise DataError(
            f"The links are doubled: {name} repeats in {links.name}.", where=told, todo="Keep one link for each id."
        )


def _examples(links: Table, name: str, broken: npt.NDArray[np.bool_], added: Table) -> list[Note]:
    rows = np.flatnonzero(broken)[:MOST_EXAMPLES]
    if not len(rows):
        return []
    texts = key_texts(links, [name], rows)
    examples = tuple(zip((rows + links.first_row).tolist(), texts, strict=True))
    return [
        Note(f"broken links: their new id is not in {added.name}.", name, examples, "broken-link", int(broken.sum()))
    ]
