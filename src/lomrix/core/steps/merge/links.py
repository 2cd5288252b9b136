"""Through: ids that changed between waves, joined by a file of links from old ids to new ones."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import matching
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, paired_keys
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.merge.settings import KeyPairs
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_free

MOST_EXAMPLES = 5


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
    """
    if len(key) != 1 or key[0][0] == key[0][1]:
        raise UsageError("Links lead from one id to another.", todo="Say ‹key=old_id=new_id›, as the links name them.")
    old, new = key[0]
    require_free(new, base.names, "the linked id")
    for name in (old, new):
        _require_single(links, name)
    keys = paired_keys(base, links, ((old, old),))
    counts = matching.Counts.of(keys.base, keys.added, keys.size)
    base_rows, link_rows = matching.matched_rows(keys.base, keys.added, keys.size, counts)
    del base_rows
    column = links[new].take_or(link_rows, UNMATCHED)
    made = Table({**base.columns, new: column}, base.dictionary, name=base.name, first_row=base.first_row)
    to = paired_keys(links, added, ((new, new),))
    arriving = matching.Counts.of(to.base, to.added, to.size).shared(to.base)
    used = matching.Counts.of(keys.base, keys.added, keys.size).shared_by_base(keys.added)
    linked_rows = int(np.count_nonzero(link_rows >= 0))
    account = Account(
        "through",
        f"{linked_rows:,} of {len(base):,} rows of {base.name} were led from {old} to {new} by {links.name}.",
        (
            Balance(f"rows of {base.name}", len(base),
                    (("linked", linked_rows), ("without a link", int(np.count_nonzero(link_rows < 0))))),
            Balance(f"links of {links.name}", len(links),
                    (("used, and arriving", int(np.count_nonzero(used & arriving))),
                     ("used, but broken: no such new id", int(np.count_nonzero(used & ~arriving))),
                     ("not used", int(np.count_nonzero(~used))))),
        ),
        {"rows": len(made), "relationship": "one-to-one"},
        (),
        tuple(_examples(links, new, used & ~arriving, added)),
    )  # fmt: skip
    return made, ((new, new),), account


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
