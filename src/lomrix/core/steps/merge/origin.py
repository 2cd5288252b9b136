"""Where each row of a merge came from, and the combined account of several merges."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import UsageError
from lomrix.core.steps.account import Account
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table
from lomrix.core.table.variable import Variable

if TYPE_CHECKING:
    from lomrix.core.steps.parts import Store

# A bit of a number for each file.
MOST_FILES = 61
# Up to this many files, each combination has a fixed code, whether it occurs or not.
FEW_FILES = 4
# In the names of columns that are carried from one merge to the next.
CARRIED = "\0"
UNMATCHED_HEADS = ("file", "key", "rows", "first_row", "likely_partner", "differs_by", "score")


@dataclass(frozen=True)
class Origin:
    """The status column of a merge, and the files it distinguishes, the base first: bit i of a row's number is set if
    file i contributes to it.
    """

    files: tuple[str, ...]
    status: str

    @staticmethod
    def require_few(added: int) -> None:
        """Stop if there are more files than a status can distinguish.

        Raises UsageError naming how many it can.
        """
        if added > MOST_FILES:
            raise UsageError(
                f"A status distinguishes at most {MOST_FILES + 1} files, not {added + 1}.",
                todo="Leave out ‹status›, or merge in several steps.",
            )

    def add(self, table: Table, bits: npt.NDArray[np.int64], numbers: Collection[int]) -> Table:
        """Add a labelled column for the origin; rows that more files contribute to come first.

        `numbers` are those of all rows, of which these may be a part.
        """
        all_bits = (1 << len(self.files)) - 1
        codes = {number: number for number in sorted(numbers)}
        if len(self.files) <= FEW_FILES:
            # Fixed codes, whatever the data: first the rows of all files, then those of fewer.
            fixed = sorted(range(1, all_bits + 1), key=lambda number: (-number.bit_count(), number))
            codes = {number: code for code, number in enumerate(fixed, start=1)}
        ordered = sorted(codes)
        values = np.array([codes[number] for number in ordered], np.int64)[np.searchsorted(np.array(ordered), bits)]
        labels = {str(code): self._make_label(number, all_bits) for number, code in codes.items()}
        list_name, dictionary = table.dictionary.add_codes(self.status, labels)
        entry = Variable(label=f"Where the row came from: {', '.join(self.files)}", codes=list_name)
        columns = {**table.columns, self.status: Column.of("integer", values)}
        return replace(table, columns=columns, dictionary=dictionary.with_variable(self.status, entry))

    def _make_label(self, number: int, all_bits: int) -> str:
        names = [name for index, name in enumerate(self.files) if number >> index & 1]
        if number == all_bits and len(self.files) == 2:
            return "in both"
        return f"only in {names[0]}" if len(names) == 1 else "in " + " and ".join(names)

    def join_statuses(self, table: Table, size: int, make_store: Callable[[], Store]) -> Table:
        """Put one status in place of those of each file, `size` rows at a time."""
        numbers = set[int]()
        if len(self.files) > FEW_FILES:
            numbers.update(*(np.unique(self._read_bits(block)).tolist() for block in table.split(size)))
        names, store = [name for name in table.names if not is_carried(name)], make_store()
        for block in table.split(size):
            others = replace(block.only(names), dictionary=block.dictionary.for_columns(names))
            store.append(self.add(others, self._read_bits(block), numbers))
        return store.finish()

    def _read_bits(self, block: Table) -> npt.NDArray[np.int64]:
        """Return the number of each row; the status of a file is 1 in both, 2 only before, 3 only in the file."""
        bits = np.zeros(len(block), np.int64)
        for index in range(1, len(self.files)):
            status = block[name_status(self.status, index)]
            codes = status.values if status.why is None else np.where(status.is_missing, 0, status.values)
            bits |= (codes & 1) << index
            bits |= (codes + 1) >> 1 & 1 if index == 1 else 0
        return bits


def name_status(status: str, index: int) -> str:
    """Return the name of the status of one file while several are merged; empty without a status."""
    return f"{status}{CARRIED}{index}" if status else ""


def is_carried(name: str) -> bool:
    """Return whether a column is the status of one file, and no result."""
    return CARRIED in name


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
