"""Cases: which rows belong to one case, and which columns change among them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.text_bytes import ascends, differs_from_above
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import key_texts, row_codes, unordered_codes
from lomrix.core.table.column import Column
from lomrix.core.table.notes import counted
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
Choice = Literal["first", "last", "commonest"]
SAMPLE = 50_000
# Where more than this share of the cases change in the first rows, all of them need not be counted.
MANY = 0.2
# Where at most this share of the cases change, it is a slip rather than a measure.
FEW = 0.05
MOST_EXAMPLES = 4


def changes_from_row_to_row(column: Column) -> Mask:
    """True where a cell differs from the one above it, in value or in the reason why it is missing."""
    if column.type == "string":
        column = column if column.stored is None else column.encoded()
    if column.type == "string" and column.stored is None:
        strings = column.strings.strings
        if not len(strings):
            return np.zeros(0, np.bool_)
        if strings.null_count:
            unequal = pc.not_equal(strings[1:], strings[:-1]).fill_null(False)
            found = np.asarray(unequal.to_numpy(zero_copy_only=False))
        else:
            found = differs_from_above(strings)
    else:
        values = column.values
        # Bit by bit: fillers are equal then, and nothing is lost by calling two cells one.
        bits = values.view(np.int64) if values.dtype.itemsize == 8 else values
        found = bits[1:] != bits[:-1]
    if column.why is not None:
        found = found | (column.why[1:] != column.why[:-1])
    return found


@dataclass(frozen=True)
class Change:
    """How a column changes within cases.

    Parameters
    ----------
    changes
        True where some case has unequal cells.
    cases
        Numbers of the cases with different present values; None where they are many and were not counted.
    """

    changes: bool
    cases: Rows | None


@dataclass
class Cases:
    """The cases of a long table.

    Parameters
    ----------
    table
        The table.
    names
        The columns that name the case.
    """

    table: Table
    names: tuple[str, ...]

    def __post_init__(self) -> None:
        for name in self.names:
            require_present(self.table, name, "a case")

    # -------------------------------------------------------------- which case

    @cached_property
    def starts(self) -> Rows:
        """Rows that are of another case than the row above them."""
        rows = len(self.table)
        new = np.ones(rows, np.bool_)
        new[1:] = False
        for name in self.names:
            new[1:] |= changes_from_row_to_row(self.table[name])
        return np.flatnonzero(new)

    @cached_property
    def _of_starts(self) -> tuple[Rows | None, Rows]:
        """Case of each of the starts (None where each is a case of its own), and first row of each case."""
        starts = self.starts
        if not len(starts):
            return None, starts
        # Rows of one case mostly stand together, so that only the first of them needs looking up.
        few = Table({name: only_these(self.table[name], starts) for name in self.names})
        if len(self.names) == 1 and is_ascending(few[self.names[0]]):
            return None, starts
        codes, size = row_codes(few, self.names)
        first = np.full(size, -1, np.int64)
        first[codes[::-1]] = np.arange(len(starts))[::-1]
        firsts = first[first >= 0]
        if len(firsts) == len(starts):
            return None, starts
        firsts.sort()
        number = np.full(len(starts), -1, np.int64)
        number[firsts] = np.arange(len(firsts))
        return number[first[codes]], starts[firsts]

    @property
    def together(self) -> bool:
        """True where the rows of each case stand together."""
        return self._of_starts[0] is None

    @cached_property
    def lengths(self) -> Rows:
        """Number of rows from each start to the next."""
        return np.diff(np.append(self.starts, len(self.table)))

    @cached_property
    def of_row(self) -> Array:
        """Number of each row's case, counted from 0 in order of first appearance."""
        numbers = self._of_starts[0]
        return np.repeat(np.arange(len(self.starts)) if numbers is None else numbers, self.lengths)

    @property
    def firsts(self) -> Rows:
        """First row of each case."""
        return self._of_starts[1]

    def __len__(self) -> int:
        return len(self.firsts)

    def texts(self, cases: Rows) -> list[str]:
        """Cases as a person reads them."""
        return key_texts(self.table, self.names, self.firsts[cases])

    # ---------------------------------------------------------- what changes

    @cached_property
    def _order(self) -> Rows | None:
        """Rows case by case; None where they stand so already."""
        return None if self.together else np.argsort(self.of_row, kind="stable")

    @cached_property
    def _same(self) -> Mask:
        """True where a row is of the same case as the one above it, rows being put case by case."""
        if self._order is None:
            same = np.ones(len(self.table), np.bool_)
            same[self.starts] = False
            return same[1:]
        cases = self.of_row[self._order]
        return np.asarray(cases[1:] == cases[:-1])

    def change(self, name: str) -> Change:
        """How a column changes within cases; where many do, a look at the first rows tells."""
        column = self.table[name]
        if len(column) > 2 * SAMPLE:
            some = column.part(0, SAMPLE) if self._order is None else column.take(self._order[:SAMPLE])
            part = changes_from_row_to_row(some) & self._same[: SAMPLE - 1]
            cases = np.cumsum(~self._same[: SAMPLE - 1])
            if len(np.unique(cases[part])) > MANY * (int(cases[-1]) + 1):
                return Change(True, None)
        ordered = column if self._order is None else column.take(self._order)
        if not (changes_from_row_to_row(ordered) & self._same).any():
            return Change(False, np.zeros(0, np.int64))
        return Change(True, self.contradicting(column))

    def contradicting(self, column: Column) -> Rows:
        """Cases with different present values in a column."""
        rows = np.arange(len(column)) if self._order is None else self._order
        rows = rows if column.why is None else rows[column.why[rows] == 0]
        cases = self.of_row[rows]
        differ = changes_from_row_to_row(column.take(rows)) & (cases[1:] == cases[:-1])
        return np.unique(cases[1:][differ])

    def values_of(self, name: str, case: int) -> list[str]:
        """The different values of one case, in order of appearance."""
        rows = np.flatnonzero(self.of_row == case)
        texts = self.table[name].take(rows).to_text().to_pylist()
        return list(dict.fromkeys("—" if text is None else text for text in texts))

    def examples(self, name: str, cases: Rows) -> str:
        """Some cases with their values: "0169 (gannet, fulmar)"."""
        some = cases[:MOST_EXAMPLES]
        told = [
            f"{text} ({', '.join(self.values_of(name, int(case)))})"
            for text, case in zip(self.texts(some), some, strict=True)
        ]
        return ", ".join(told) + (" …" if len(cases) > len(some) else "")

    # ------------------------------------------------------------ one per case

    def rows_of_constant(self, name: str, choice: Choice | Literal["stop"], todo: str) -> Rows:
        """For each case the row whose cell stands for it; a missing cell takes the value that another row has.

        Parameters
        ----------
        name
            A column that should have one value for each case.
        choice
            What is taken where it has several.
        todo
            What to do where that stops.

        Raises
        ------
        DataError
            Where it changes within a case, and nothing was chosen.
        """
        column = self.table[name]
        cases = self.contradicting(column) if choice == "stop" else ()
        if len(cases):
            raise DataError(
                f"{name} is no constant: it changes within {counted(len(cases), 'case', 'cases')}.",
                where=self.examples(name, np.asarray(cases)),
                todo=todo,
            )
        return self.one_row_each(column, "first" if choice == "stop" else choice)

    def one_row_each(self, column: Column, choice: Choice) -> Rows:
        """For each case the row whose cell stands for it: one with a value, where there is one."""
        chosen = self.firsts.copy()
        present = np.arange(len(column)) if column.why is None else np.flatnonzero(column.why == 0)
        cases = self.of_row[present]
        if choice == "last":
            chosen[cases] = present
            return chosen
        chosen[cases[::-1]] = present[::-1]
        if choice == "commonest":
            changing = np.isin(cases, self.contradicting(column))
            self._choose_commonest(column, present[changing], chosen)
        return chosen

    def _choose_commonest(self, column: Column, rows: Rows, chosen: Rows) -> None:
        """Put in the first row that holds a case's commonest value; of equally common ones the first."""
        codes, size = unordered_codes(column.take(rows))
        both, _ = key_codes.combined(self.of_row[rows], len(self), codes, max(size, 1))
        _, first, counts = np.unique(both, return_index=True, return_counts=True)
        cases = self.of_row[rows[first]]
        order = np.lexsort((rows[first], -counts, cases))
        best = order[np.flatnonzero(np.diff(cases[order], prepend=-1))]
        chosen[cases[best]] = rows[first[best]]


def require_present(table: Table, name: str, what: str) -> None:
    """Stop where a column that every row needs is missing in some.

    Raises
    ------
    DataError
        With the rows.
    """
    column = table[name]
    if not column.missing_count:
        return
    rows = np.flatnonzero(column.is_missing)
    shown = ", ".join(str(row + table.first_row) for row in rows[:MOST_EXAMPLES].tolist())
    raise DataError(
        f"Rows without {what}: {name} is missing in {len(rows):,} of {len(column):,} rows.",
        where=f"row {shown}{' …' if len(rows) > MOST_EXAMPLES else ''}",
        todo=f"Mend them with a ledger, or leave them out: subset with ‹where=not is_missing({name})›.",
    )


def is_ascending(column: Column) -> bool:
    """True where the cells are known to be in strictly ascending order, and so all different."""
    if column.type == "string":
        return column.stored is None and ascends(column.strings.strings)
    return bool((column.values[1:] > column.values[:-1]).all())


def only_these(column: Column, rows: Rows) -> Column:
    """Some cells of a column; texts are taken out of their pool, so that finding the distinct ones is cheap."""
    if column.type != "string" or column.stored is not None:
        return column.take(rows)
    why = None if column.why is None else column.why[rows]
    return Column.of_strings(None, Pool(column.strings.strings.take(pa.array(rows))), why, column.reasons)
