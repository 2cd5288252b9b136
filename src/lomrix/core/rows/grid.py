"""The grid of cases and occasions: where each row of a long table stands in it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import MOST_EXAMPLES, Cases, require_present
from lomrix.core.rows.keys import grouped, key_texts
from lomrix.core.rows.occasions import Occasion, Ranks, rank_values
from lomrix.core.table.notes import Note
from lomrix.core.table.other_layout import OtherLayout, typed_value
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
MEND = (
    "Mend the file, name an ‹occasion› that tells the rows apart, or say ‹repeated=first›, last, mean, "
    "median, min, max or sum."
)


@dataclass
class Grid:
    """Where each row stands.

    Parameters
    ----------
    table
        The long table.
    case, names
        The columns that name the case, and those that name the occasion.
    memory
        What is remembered of the wide layout; the order of its occasions counts.
    """

    table: Table
    case: tuple[str, ...]
    names: tuple[str, ...]
    memory: OtherLayout | None = None
    ranks: list[Ranks] = field(default_factory=list)

    @cached_property
    def cases(self) -> Cases:
        """The cases, in order of first appearance."""
        return Cases(self.table, self.case)

    @cached_property
    def _occasions(self) -> tuple[tuple[Occasion, ...], Array | None]:
        """The occasions in order, and each row's; None where they come round and round."""
        for name in self.names:
            require_present(self.table, name, "an occasion")
        if self._round is not None:
            return self._round, None
        groups = grouped(self.table, self.names)
        found = list(zip(*(self._values(groups.values[name]) for name in self.names), strict=True))
        order = self._ordered(found, self._turns(groups.codes, len(found)))
        if order == list(range(len(found))):
            return tuple(found), groups.codes
        place = np.empty(len(found), np.int64)
        place[order] = np.arange(len(found))
        return tuple(found[at] for at in order), place[groups.codes]

    @cached_property
    def _round(self) -> tuple[Occasion, ...] | None:
        """The occasions, where every case has all of them once and in order; None where not."""
        cases = self.cases
        if not len(cases.lengths) or not cases.together or (cases.lengths != cases.lengths[0]).any():
            return None
        times = int(cases.lengths[0])
        for name in self.names:
            column = self.table[name].cheaply_encoded() if len(cases) > 1 else self.table[name]
            if column.type == "string" and not column.strings.is_distinct:
                return None
            if not (column.values.reshape(len(cases), times) == column.values[:times]).all():
                return None
        first = self.table.only(self.names).first(times)
        found = list(zip(*(self._values(first[name]) for name in self.names), strict=True))
        if len(set(found)) < times or self._ordered(found, range(times)) != list(range(times)):
            return None
        return tuple(found)

    @staticmethod
    def _values(column: Any) -> list[Any]:
        return list(column.values.tolist()) if column.type != "string" else column.cells()

    def _turns(self, codes: Array, count: int) -> Iterable[int]:
        """Places of the occasions in the order in which they first come, where that may count."""
        if all(self.table[name].type != "string" for name in self.names):
            return range(count)
        first = np.full(count, len(codes))
        first[codes[::-1]] = np.arange(len(codes))[::-1]
        return [int(at) for at in np.argsort(first, kind="stable")]

    def _ordered(self, found: list[Occasion], turns: Iterable[int]) -> list[int]:
        """Places of the occasions as they were remembered, else as their values are in order."""
        if self.memory is not None:
            types = [self.memory.types.get(name) for name in self.memory.occasions]
            known = dict.fromkeys(
                tuple(typed_value(value, type_) for value, type_ in zip(place.at, types, strict=True))
                for place in self.memory.places
            )
            rank = {occasion: at for at, occasion in enumerate(known)}
            if set(found) <= set(rank):
                return sorted(range(len(found)), key=lambda at: rank[found[at]])
        turns = list(turns)
        self.ranks = [
            rank_values(name, (found[at][place] for at in turns), self.table.dictionary)
            for place, name in enumerate(self.names)
        ]
        return sorted(
            range(len(found)),
            key=lambda at: [rank.of[value] for rank, value in zip(self.ranks, found[at], strict=True)],
        )

    @property
    def order_notes(self) -> list[Note]:
        """What is reported where the order of the rows decides the order of the occasions."""
        self.occasions  # noqa: B018 the order is found with them
        return [note for rank in self.ranks if (note := rank.note)]

    @property
    def occasions(self) -> tuple[Occasion, ...]:
        """The occasions that some row has, in order."""
        return self._occasions[0]

    @property
    def times(self) -> int:
        """Number of occasions."""
        return len(self.occasions)

    @property
    def size(self) -> int:
        """Number of cells of one measure: cases times occasions."""
        return len(self.cases) * self.times

    @cached_property
    def cells(self) -> Rows:
        """Each row's place among the cells of a measure, case by case."""
        of_row = self._occasions[1]
        return np.arange(self.size) if of_row is None else np.asarray(self.cases.of_row * self.times + of_row)

    def at_each(self, rows: npt.NDArray[np.bool_] | None = None) -> npt.NDArray[np.int64]:
        """Number of rows at each occasion, of some rows (a mask) or of all."""
        of_row = self._occasions[1]
        if of_row is not None:
            return np.bincount(of_row if rows is None else of_row[rows], minlength=self.times)
        if rows is None:
            return np.full(self.times, len(self.cases))
        # Few rows are counted sooner than many: those that are meant, or the others.
        few = np.count_nonzero(rows) * 2 < len(rows)
        counts = np.bincount(np.flatnonzero(rows if few else ~rows) % self.times, minlength=self.times)
        return counts if few else len(self.cases) - counts

    def rows_at(self, places: Rows) -> Rows:
        """For each case a row that stands at one of its occasions, which it has."""
        at = np.arange(len(places)) * self.times + places
        if self.is_full:
            return at
        row = np.zeros(self.size, np.int64)
        row[self.cells] = np.arange(len(self.table))
        return np.asarray(row[at])

    @cached_property
    def in_order(self) -> bool:
        """True where every row stands behind the one above it, case by case and occasion by occasion."""
        return self._occasions[1] is None or bool((self.cells[1:] > self.cells[:-1]).all())

    @property
    def is_full(self) -> bool:
        """True where the rows are all cells in order."""
        return len(self.table) == self.size and self.in_order

    @cached_property
    def cases_at(self) -> npt.NDArray[np.int64]:
        """For each occasion the number of cases that have a row."""
        if self.is_full:
            return np.full(self.times, len(self.cases))
        return np.asarray(np.count_nonzero(self.seen, axis=0))

    @cached_property
    def _taken(self) -> npt.NDArray[np.bool_]:
        """True for the cells that some row has."""
        if self._occasions[1] is None:  # every case has every occasion
            return np.ones(self.size, np.bool_)
        taken = np.zeros(self.size, np.bool_)
        taken[self.cells] = True
        return taken

    @cached_property
    def repeated(self) -> Rows:
        """Rows that share their case and occasion with another one."""
        if self.in_order or int(np.count_nonzero(self._taken)) == len(self.table):
            return np.zeros(0, np.int64)
        counts = np.bincount(self.cells, minlength=self.size)
        return np.flatnonzero(counts[self.cells] > 1)

    @property
    def seen(self) -> npt.NDArray[np.bool_]:
        """Shape (cases, occasions): True where some row is."""
        return self._taken.reshape(len(self.cases), self.times)

    def require_no_repetition(self, todo: str = MEND) -> None:
        """Stop where case and occasion stand in several rows.

        Parameters
        ----------
        todo
            What to do about it.

        Raises
        ------
        DataError
            With the rows.
        """
        rows = self.repeated
        if not len(rows):
            return
        order = rows[np.argsort(self.cells[rows], kind="stable")][: 2 * MOST_EXAMPLES]
        texts = key_texts(self.table, [*self.case, *self.names], order)
        told: dict[str, list[str]] = {}
        for row, text in zip(order.tolist(), texts, strict=True):
            told.setdefault(text, []).append(str(row + self.table.first_row))
        shown = [f"{text} (rows {', '.join(found)})" for text, found in told.items() if len(found) > 1]
        count = len(np.unique(self.cells[rows]))
        raise DataError(
            f"{count:,} {'case and occasion stands' if count == 1 else 'cases and occasions stand'} in several rows.",
            where="; ".join(shown[:MOST_EXAMPLES]) + (" …" if count > MOST_EXAMPLES else ""),
            todo=todo,
        )


def find_unseen_rows(table: Table, case: tuple[str, ...], occasion: tuple[str, ...]) -> npt.NDArray[np.bool_]:
    """Find the rows that only make a panel balanced: the case was not seen then.

    Of such a row every measure is missing, some for `no-occasion`; only constants of the case have a value.

    Parameters
    ----------
    table
        The long table, n rows.
    case, occasion
        The columns that name case and occasion, none of them missing.
    """
    found, is_named = np.zeros(len(table), np.bool_), False
    measures = {name: column for name, column in table.columns.items() if name not in (*case, *occasion)}
    for column in measures.values():
        if column.why is not None and NO_OCCASION in column.reasons:
            found |= column.why == column.reasons.index(NO_OCCASION) + 1
            is_named = True
    if not is_named:
        return found
    cases = Cases(table, case)
    for name, column in measures.items():
        there = found & ~column.is_missing
        if there.any() and cases.change(name).changes:
            found &= ~there
    return found
