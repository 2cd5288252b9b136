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
from lomrix.core.combining import MOST_EXAMPLES, Shown, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_cells, encode_rows, format_keys
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
Choice = Literal["first", "last", "commonest"]
# If at most this share of the cases vary, it is an error rather than a measure.
FEW = 0.05
# The ranks of errors about rows without a case, and then without an occasion.
CASES_FIRST, OCCASIONS_NEXT = -200, -100


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
    """How a column varies within cases: in how many any cells are unequal, in how many present values are, and the
    first of the latter with their values: "0169 (gannet, fulmar)".
    """

    unequal: int
    contradicting: int
    examples: Shown

    @property
    def varies(self) -> bool:
        """True if any case has unequal cells."""
        return self.unequal > 0


@dataclass
class Cases:
    """The cases of a table, by the columns that name them."""

    table: Table
    names: tuple[str, ...]

    def __post_init__(self) -> None:
        require_present(self.table, self.names, "a case", CASES_FIRST)

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

    @cached_property
    def _bounds(self) -> Rows:
        """Position of each case's first row, case by case, and the number of rows."""
        if self._order is None:
            return np.append(self.starts, len(self.table))
        return np.append(0, np.cumsum(np.bincount(self.of_row, minlength=len(self))))

    def _mark_cases(self, differs: Mask) -> Mask:
        """Return for each case whether a row, in case order, differs from the one before in the same case."""
        marks = np.empty(len(self.table), np.bool_)
        marks[0] = False
        np.logical_and(differs, self._is_same_case, out=marks[1:])
        return np.logical_or.reduceat(marks, self._bounds[:-1])

    def find_variation(self, name: str) -> Variation:
        """Return how a column varies within cases."""
        column = self.table[name]
        ordered = column if self._order is None else column.take(self._order)
        differs = find_row_changes(ordered)
        if not (differs & self._is_same_case).any():
            return Variation(0, 0, Shown([], 0))
        unequal = contradicting = self._mark_cases(differs)
        if ordered.why is not None:
            is_present = ordered.why == 0
            contradicting = self._mark_cases(differs & is_present[1:] & is_present[:-1])
            # In what is left, unequal values may have missing cells between them.
            contradicting = contradicting | self._contradict(ordered, unequal & ~contradicting)
        cases = np.flatnonzero(contradicting)
        return Variation(int(np.count_nonzero(unequal)), len(cases), self.show_examples(name, cases))

    def find_contradictions(self, column: Column) -> Rows:
        """Return the cases with different present values in a column."""
        ordered = column if self._order is None else column.take(self._order)
        return np.flatnonzero(self._contradict(ordered, np.ones(len(self), np.bool_)))

    def _contradict(self, ordered: Column, cases: Mask) -> Mask:
        """Return which of some cases have different present values in a column that is ordered by case."""
        numbers = np.flatnonzero(cases)
        lengths = np.diff(self._bounds)[numbers]
        of_row = np.repeat(numbers, lengths)
        rows = np.arange(len(of_row)) + np.repeat(self._bounds[numbers] - (np.cumsum(lengths) - lengths), lengths)
        if ordered.why is not None:
            present = ordered.why[rows] == 0
            rows, of_row = rows[present], of_row[present]
        differ = find_row_changes(ordered.take(rows)) & (of_row[1:] == of_row[:-1])
        result = np.zeros(len(self), np.bool_)
        result[of_row[1:][differ]] = True
        return result

    def list_values(self, name: str, case: int) -> list[str]:
        """Return the distinct values of one case, in order of appearance."""
        rows = np.arange(self._bounds[case], self._bounds[case + 1])
        texts = self.table[name].take(rows if self._order is None else self._order[rows]).to_text().to_pylist()
        return list(dict.fromkeys("—" if text is None else text for text in texts))

    def show_examples(self, name: str, cases: Rows) -> Shown:
        """Show some cases with their values: "0169 (gannet, fulmar)"."""
        some = cases[:MOST_EXAMPLES]
        numbers = self.table.number_rows(self.firsts[some])
        items = [
            (number, f"{text} ({', '.join(self.list_values(name, case))})")
            for number, text, case in zip(numbers, self.format_cases(some), some.tolist(), strict=True)
        ]
        return Shown(items, len(cases))

    # ------------------------------------------------------------ one per case

    def find_constant_rows(self, name: str, choice: Choice | Literal["stop"], todo: str) -> Rows:
        """Return for each case the row that holds its value of a constant; a missing cell takes the value of another
        row. `choice` decides if a case has several values.

        Raises DataError if it varies within a case, and there is no choice.
        """
        column = self.table[name]
        if choice == "stop" and len(cases := self.find_contradictions(column)):
            raise varying_constant_error(name, len(cases), self.show_examples(name, cases), todo)
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


def varying_constant_error(name: str, cases: int, examples: Shown, todo: str) -> DataError:
    """Return the error about a constant that varies within some cases."""
    what = Words("{name} is not a constant: it varies within {cases:case}.", name=name, cases=cases)
    return DataError(what, where=examples, todo=todo)


def require_present(table: Table, names: tuple[str, ...], what: str, rank: int) -> None:
    """Stop if columns that every row needs have missing cells; `rank` is that of the error about the first of them.

    Raises DataError with the rows.
    """
    for offset, name in enumerate(names):
        rows = np.flatnonzero(table[name].is_missing) if table[name].missing_count else np.zeros(0, np.int64)
        if len(rows):
            shown = [(number, str(number)) for number, _ in table.show_rows(rows)]
            raise DataError(
                Words("Rows without {what}: {name} is missing in {rows:row}.", what=what, name=name, rows=len(rows)),
                where=Shown(shown, len(rows), "row "),
                todo=f"Correct them with a ledger, or leave them out: subset with ‹where=not is_missing({name})›.",
                rank=rank + offset,
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
