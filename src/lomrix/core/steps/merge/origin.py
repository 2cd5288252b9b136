"""Where each row of a merge came from, and the accounts of its parts as one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.steps.account import Account
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.core.table.texts import table_of_texts
from lomrix.core.table.variable import Variable

# A bit of a number for each file.
MOST_FILES = 61
# Up to so many files each way of standing in them has a code of its own, found or not.
FEW_FILES = 4
UNMATCHED_HEADS = ("file", "key", "rows", "first_row", "likely_partner", "differs_by", "score")


@dataclass(frozen=True)
class Origin:
    """Which files each row has a part in.

    Parameters
    ----------
    names
        The files, the base first.
    bits
        One number per row; bit i is set where file i has a part in it.
    """

    names: tuple[str, ...]
    bits: npt.NDArray[np.int64]

    @classmethod
    def of(cls, base: Table, added: int, *, has_status: bool = True) -> Origin:
        """Every row comes from the base.

        Raises
        ------
        UsageError
            Where more files follow than a status can tell apart.
        """
        if has_status and added > MOST_FILES:
            raise UsageError(
                f"A status tells {MOST_FILES + 1} files apart at most, not {added + 1}.",
                todo="Leave out ‹status›, or merge in several steps.",
            )
        return cls((base.name,), np.ones(len(base), np.int64))

    def extended(self, name: str, base_rows: Array, added_rows: Array) -> Origin:
        """The same after one more file was brought to the rows."""
        bits = np.append(self.bits, 0)[base_rows] | np.where(added_rows >= 0, 1 << min(len(self.names), MOST_FILES), 0)
        return Origin((*self.names, name), bits.astype(np.int64, copy=False))

    def with_status(self, table: Table, name: str) -> Table:
        """The table with a column that says it, codes with labels; rows that more files have come first."""
        every = (1 << len(self.names)) - 1
        found = np.unique(self.bits).tolist()
        if len(self.names) <= FEW_FILES:
            # The codes are the same whatever the data are: first the rows of all files, then those of fewer.
            found = sorted(range(1, every + 1), key=lambda bits: (-bits.bit_count(), bits))
            codes = {bits: place for place, bits in enumerate(found, start=1)}
        else:
            codes = {bits: bits for bits in found}
        ordered = sorted(codes)
        values = np.array([codes[bits] for bits in ordered], np.int64)[np.searchsorted(np.array(ordered), self.bits)]
        labels = {str(code): self._label(bits, every) for bits, code in codes.items()}
        entry = Variable(label=f"Where the row came from: {', '.join(self.names)}", codes=name)
        columns = {**table.columns, name: Column.of("integer", values)}
        dictionary = table.dictionary.with_codes(name, labels).with_variable(name, entry)
        return replace(table, columns=columns, dictionary=dictionary)

    def _label(self, bits: int, every: int) -> str:
        names = [name for place, name in enumerate(self.names) if bits >> place & 1]
        if bits == every and len(self.names) == 2:
            return "in both"
        return f"only in {names[0]}" if len(names) == 1 else "in " + " and ".join(names)


def joined_accounts(accounts: Sequence[Account]) -> Account:
    """One account of several merges in a row."""
    if len(accounts) == 1:
        return accounts[0]
    last = accounts[-1]
    return Account(
        "merge",
        f"{len(accounts)} steps made {last.facts['rows']:,} rows.",
        tuple(balance for account in accounts for balance in account.balances),
        {"rows": last.facts["rows"], "merges": [dict(account.facts) for account in accounts],
         "relationship": [account.facts["relationship"] for account in accounts]},
        tuple(listing for account in accounts for listing in account.listings),
        tuple(note for account in accounts for note in account.notes),
        tuple(dict.fromkeys(line for account in accounts for line in account.advice)),
        tuple(accounts), sum(account.left_out for account in accounts),
    )  # fmt: skip


def stacked_texts(tables: Sequence[Table]) -> Table | None:
    """Tables of texts with the same columns, one under the other; None where there is no table."""
    if not tables:
        return None
    heads = tables[0].names
    rows = [row for table in tables for row in zip(*(table[head].to_text().to_pylist() for head in heads), strict=True)]
    return table_of_texts(heads, [[cell or "" for cell in row] for row in rows], tables[0].name)
