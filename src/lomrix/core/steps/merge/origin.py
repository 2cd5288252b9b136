"""Where each row of a merge came from, and the combined account of several merges."""

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
from lomrix.core.table.texts import make_text_table
from lomrix.core.table.variable import Variable

# A bit of a number for each file.
MOST_FILES = 61
# Up to this many files, each combination has a fixed code, whether it occurs or not.
FEW_FILES = 4
UNMATCHED_HEADS = ("file", "key", "rows", "first_row", "likely_partner", "differs_by", "score")


@dataclass(frozen=True)
class Origin:
    """Which files contribute to each row: names (the base first), and a number per row with bit i set for file i."""

    names: tuple[str, ...]
    bits: npt.NDArray[np.int64]

    @classmethod
    def start(cls, base: Table, added: int, *, has_status: bool = True) -> Origin:
        """Every row comes from the base.

        Raises UsageError if there are more files than a status can distinguish.
        """
        if has_status and added > MOST_FILES:
            raise UsageError(
                f"A status distinguishes at most {MOST_FILES + 1} files, not {added + 1}.",
                todo="Leave out ‹status›, or merge in several steps.",
            )
        return cls((base.name,), np.ones(len(base), np.int64))

    def extend(self, name: str, base_rows: Array, added_rows: Array) -> Origin:
        """Return the origin after one more file was merged."""
        bits = np.append(self.bits, 0)[base_rows] | np.where(added_rows >= 0, 1 << min(len(self.names), MOST_FILES), 0)
        return Origin((*self.names, name), bits.astype(np.int64, copy=False))

    def add_status(self, table: Table, name: str) -> Table:
        """Add a labelled column for the origin; rows that more files contribute to come first."""
        all_bits = (1 << len(self.names)) - 1
        combinations = np.unique(self.bits).tolist()
        if len(self.names) <= FEW_FILES:
            # Fixed codes, whatever the data: first the rows of all files, then those of fewer.
            combinations = sorted(range(1, all_bits + 1), key=lambda bits: (-bits.bit_count(), bits))
            codes = {bits: code for code, bits in enumerate(combinations, start=1)}
        else:
            codes = {bits: bits for bits in combinations}
        ordered = sorted(codes)
        values = np.array([codes[bits] for bits in ordered], np.int64)[np.searchsorted(np.array(ordered), self.bits)]
        labels = {str(code): self._make_label(bits, all_bits) for bits, code in codes.items()}
        entry = Variable(label=f"Where the row came from: {', '.join(self.names)}", codes=name)
        columns = {**table.columns, name: Column.of("integer", values)}
        dictionary = table.dictionary.with_codes(name, labels).with_variable(name, entry)
        return replace(table, columns=columns, dictionary=dictionary)

    def _make_label(self, bits: int, all_bits: int) -> str:
        names = [name for index, name in enumerate(self.names) if bits >> index & 1]
        if bits == all_bits and len(self.names) == 2:
            return "in both"
        return f"only in {names[0]}" if len(names) == 1 else "in " + " and ".join(names)


def combine_accounts(accounts: Sequence[Account]) -> Account:
    """Combine the accounts of several merges in sequence."""
    if len(accounts) == 1:
        return accounts[0]
    final = accounts[-1]
    advice = [part for account in accounts for part in account.advice]
    return Account(
        "merge",
        f"{len(accounts)} steps made {final.facts['rows']:,} rows.",
        tuple(balance for account in accounts for balance in account.balances),
        {"rows": final.facts["rows"], "merges": [dict(account.facts) for account in accounts],
         "relationship": [account.facts["relationship"] for account in accounts]},
        tuple(listing for account in accounts for listing in account.listings),
        tuple(note for account in accounts for note in account.notes),
        tuple(one for position, one in enumerate(advice) if one not in advice[:position]),
        tuple(accounts),
    )  # fmt: skip


def stack_texts(tables: Sequence[Table]) -> Table | None:
    """Stack tables of text with the same columns; None if there is no table."""
    if not tables:
        return None
    heads = tables[0].names
    rows = [row for table in tables for row in zip(*(table[head].to_text().to_pylist() for head in heads), strict=True)]
    return make_text_table(heads, [[cell or "" for cell in row] for row in rows], tables[0].name)
