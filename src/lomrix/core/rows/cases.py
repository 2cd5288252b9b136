"""Cases: which rows belong to one case, and which columns vary within cases."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.text_bytes import differs_from_above
from lomrix.core.arrays.text_bytes import is_ascending as are_ascending
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Shown, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_cells, encode_rows, format_keys
from lomrix.core.table.column import Column
from lomrix.core.table.notes import pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
Choice = Literal["first", "last", "commonest"]
SAMPLE = 50_000
# If more than this share of the cases vary in the first rows, the others are not counted.
MANY = 0.2
# If at most this share of the cases vary, it is an error rather than a measure.
FEW = 0.05
MOST_EXAMPLES = 4


def find_row_changes(column: Column) -> Mask:
    """Return for each cell but the first whether its value or reason differs from the one above."""
    if column.type == "string":
        column = column if column.stored is None else column.encode()
    if column.type == "string" and column.stored is None:
        strings = column.strings.strings
        if not len(strings):
            return np.zeros(0, np.bool_)
        if strings.null_count:
            unequal = pc.not_equal(strings[1:], strings[:-1]).fill_null(False)
            result = np.asarray(unequal.to_numpy(zero_copy_only=False))
        else:
            result = differs_from_above(strings)
    else:
        values = column.values
        # Compared bit by bit, so that fillers are equal.
        bits = values.view(np.int64) if values.dtype.itemsize == 8 else values
        result = bits[1:] != bits[:-1]
    if column.why is not None:
        result = result | (column.why[1:] != column.why[:-1])
    return result


@dataclass(frozen=True)
class Variation:
    """How a column varies within cases: whether any case has unequal cells, and the cases with different present values
    (None if they are too many to count).
    """

    varies: bool
    cases: Rows | None


@dataclass
class Cases:
    """The cases of a table, by the columns that name them."""

    table: Table
    names: tuple[str, ...]

    def __post_init__(self) -> None:
        for name in self.names:
            require_present(self.table, name, "a case")

    # -------------------------------------------------------------- which case

    @cached_property
    def starts(self) -> Rows:
        """Rows of another case than the row above."""
        rows = len(self.table)
        new = np.ones(rows, np.bool_)
        new[1:] = False
        for name in self.names:
            new[1:] |= find_row_changes(self.table[name])
        return np.flatnonzero(new)

    @cached_property
    def _start_cases(self) -> tuple[Rows | None, Rows]:
        """Case of each start (None if each is a case of its own), and first row of each case."""
        starts = self.starts
        if not len(starts):
            return None, starts
        # Rows of one case are mostly adjacent, so only the first of them is looked up.
        few = Table({name: take_compactly(self.table[name], starts) for name in self.names})
        if len(self.names) == 1 and is_ascending(few[self.names[0]]):
            return None, starts
        codes, size = encode_rows(few, self.names)
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
    def is_contiguous(self) -> bool:
        """True if the rows of each case are adjacent."""
        return self._start_cases[0] is None

    @cached_property
    def lengths(self) -> Rows:
        """Number of rows from each start to the next."""
        return np.diff(np.append(self.starts, len(self.table)))

    @cached_property
    def of_row(self) -> Array:
        """Number of each row's case, from 0 in order of first appearance."""
        numbers = self._start_cases[0]
        return np.repeat(np.arange(len(self.starts)) if numbers is None else numbers, self.lengths)

    @property
    def firsts(self) -> Rows:
        """First row of each case."""
        return self._start_cases[1]

    def __len__(self) -> int:
        return len(self.firsts)

    def format_cases(self, cases: Rows) -> list[str]:
        """Format cases for people."""
        return format_keys(self.table, self.names, self.firsts[cases])

    # ---------------------------------------------------------- what changes

    @cached_property
    def _order(self) -> Rows | None:
        """Rows case by case; None if they are already in this order."""
        return None if self.is_contiguous else np.argsort(self.of_row, kind="stable")

    @cached_property
    def _is_same_case(self) -> Mask:
        """True where a row, in case order, is of the same case as the one before."""
        if self._order is None:
            same = np.ones(len(self.table), np.bool_)
            same[self.starts] = False
            return same[1:]
        cases = self.of_row[self._order]
        return np.asarray(cases[1:] == cases[:-1])

    def find_variation(self, name: str) -> Variation:
        """Return how a column varies within cases; if it often does, the first rows decide."""
        column = self.table[name]
        if len(column) > 2 * SAMPLE:
            some = column.slice(0, SAMPLE) if self._order is None else column.take(self._order[:SAMPLE])
            varies = find_row_changes(some) & self._is_same_case[: SAMPLE - 1]
            cases = np.cumsum(~self._is_same_case[: SAMPLE - 1])
            if len(np.unique(cases[varies])) > MANY * (int(cases[-1]) + 1):
                return Variation(True, None)
        ordered = column if self._order is None else column.take(self._order)
        if not (find_row_changes(ordered) & self._is_same_case).any():
            return Variation(False, np.zeros(0, np.int64))
        return Variation(True, self.find_contradictions(column))

    def find_contradictions(self, column: Column) -> Rows:
        """Return the cases with different present values in a column."""
        rows = np.arange(len(column)) if self._order is None else self._order
        rows = rows if column.why is None else rows[column.why[rows] == 0]
        cases = self.of_row[rows]
        differ = find_row_changes(column.take(rows)) & (cases[1:] == cases[:-1])
        return np.unique(cases[1:][differ])

    def list_values(self, name: str, case: int) -> list[str]:
        """Return the distinct values of one case, in order of appearance."""
        rows = np.flatnonzero(self.of_row == case)
        texts = self.table[name].take(rows).to_text().to_pylist()
        return list(dict.fromkeys("—" if text is None else text for text in texts))

    def format_examples(self, name: str, cases: Rows) -> str:
        """Format some cases with their values: "0169 (gannet, fulmar)"."""
        some = cases[:MOST_EXAMPLES]
        parts = [
            f"{text} ({', '.join(self.list_values(name, int(case)))})"
            for text, case in zip(self.format_cases(some), some, strict=True)
        ]
        return ", ".join(parts) + (" …" if len(cases) > len(some) else "")

    # ------------------------------------------------------------ one per case

    def find_constant_rows(self, name: str, choice: Choice | Literal["stop"], todo: str) -> Rows:
        """Return for each case the row that holds its value of a constant; a missing cell takes the value of another
        row. `choice` decides if a case has several values.

        Raises DataError if it varies within a case, and there is no choice.
        """
        column = self.table[name]
        cases = self.find_contradictions(column) if choice == "stop" else ()
        if len(cases):
            raise DataError(
                f"{name} is not a constant: it varies within {pluralize(len(cases), 'case')}.",
                where=self.format_examples(name, np.asarray(cases)),
                todo=todo,
            )
        return self.choose_row_per_case(column, "first" if choice == "stop" else choice)

    def choose_row_per_case(self, column: Column, choice: Choice) -> Rows:
        """Return for each case one row, with a value if there is one."""
        chosen = self.firsts.copy()
        present = np.arange(len(column)) if column.why is None else np.flatnonzero(column.why == 0)
        cases = self.of_row[present]
        if choice == "last":
            chosen[cases] = present
            return chosen
        chosen[cases[::-1]] = present[::-1]
        if choice == "commonest":
            changing = np.isin(cases, self.find_contradictions(column))
            self._choose_most_frequent(column, present[changing], chosen)
        return chosen

    def _choose_most_frequent(self, column: Column, rows: Rows, chosen: Rows) -> None:
        """Put in the first row that holds a case's most frequent value; of equally frequent ones the first."""
        codes, size = encode_cells(column.take(rows))
        both, _ = key_codes.combine_codes(self.of_row[rows], len(self), codes, max(size, 1))
        _, first, counts = np.unique(both, return_index=True, return_counts=True)
        cases = self.of_row[rows[first]]
        order = np.lexsort((rows[first], -counts, cases))
        chosen_rows = order[np.flatnonzero(np.diff(cases[order], prepend=-1))]
        chosen[cases[chosen_rows]] = rows[first[chosen_rows]]


def require_present(table: Table, name: str, what: str) -> None:
    """Stop if a column that every row needs has missing cells.

    Raises DataError with the rows.
    """
    column = table[name]
    if not column.missing_count:
        return
    rows = np.flatnonzero(column.is_missing)
    shown = [(number, str(number)) for number in table.number_rows(rows[:MOST_EXAMPLES])]
    raise DataError(
        Words("Rows without {what}: {name} is missing in {rows:row}.", what=what, name=name, rows=len(rows)),
        where=Shown(shown, len(rows), MOST_EXAMPLES, "row "),
        todo=f"Correct them with a ledger, or leave them out: subset with ‹where=not is_missing({name})›.",
    )


def is_ascending(column: Column) -> bool:
    """Return whether the cells are known to be strictly ascending, and so distinct."""
    if column.type == "string":
        return column.stored is None and are_ascending(column.strings.strings)
    return bool((column.values[1:] > column.values[:-1]).all())


def take_compactly(column: Column, rows: Rows) -> Column:
    """Take some cells of a column; texts are copied out of their pool, so that finding the distinct ones is cheap."""
    if column.type != "string" or column.stored is not None:
        return column.take(rows)
    why = None if column.why is None else column.why[rows]
    return Column.of_strings(None, Pool(column.strings.strings.take(pa.array(rows))), why, column.reasons)
