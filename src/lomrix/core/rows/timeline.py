"""The timeline: rows case by case in the order of their occasions, and who stands before and after whom."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import MOST_EXAMPLES, Cases, require_present
from lomrix.core.rows.keys import key_texts
from lomrix.core.rows.occasions import Ranks, rank_values
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]


@dataclass
class Timeline:
    """Rows in order of time within their cases.

    Parameters
    ----------
    table
        The long table.
    cases
        Its cases.
    occasion
        The columns that say when.

    Raises
    ------
    DataError
        Where a row has no occasion, or a case has two rows of one occasion.
    """

    table: Table
    cases: Cases
    occasion: tuple[str, ...]
    ranks: list[Ranks] = field(default_factory=list)

    def __post_init__(self) -> None:
        for name in self.occasion:
            require_present(self.table, name, "an occasion")
        self._require_different()

    @cached_property
    def _when(self) -> list[Array]:
        """For each occasion column numbers in the order of its values."""
        return [self._ordered(name) for name in self.occasion]

    def _ordered(self, name: str) -> Array:
        column = self.table[name]
        if column.type != "string":
            return column.values
        column = column.compact()
        texts = column.strings.texts()
        first = np.full(len(texts), len(column))
        first[column.values[::-1]] = np.arange(len(column))[::-1]
        in_turn = [texts[at] for at in np.argsort(first, kind="stable").tolist()]
        self.ranks.append(rank_values(name, in_turn, self.table.dictionary))
        rank = np.empty(len(texts), np.int64)
        rank[sorted(range(len(texts)), key=lambda at: self.ranks[-1].of[texts[at]])] = np.arange(len(texts))
        return rank[column.values]

    @cached_property
    def places(self) -> Rows:
        """For each row the place of its occasion among all that some row has."""
        if len(self._when) == 1:
            return key_codes.ranks(self._when[0], np.zeros(len(self.table), np.bool_))[0]
        order = np.lexsort(self._when[::-1])
        new = np.zeros(len(order), np.bool_)
        for values in self._when:
            along = values[order]
            new[1:] |= along[1:] != along[:-1]
        place = np.empty(len(order), np.int64)
        place[order] = np.cumsum(new)
        return place

    @property
    def order_notes(self) -> list[Note]:
        """What is reported where the order of the rows decides the order of the occasions."""
        return [note for rank in self.ranks if (note := rank.note)]

    @cached_property
    def order(self) -> Rows | None:
        """Rows in order; None where they stand so already, which takes a look and no sorting."""
        if self.cases.together:
            rises = np.zeros(max(len(self.table) - 1, 0), np.bool_)
            level = np.ones(len(rises), np.bool_)
            for values in self._when:
                rises |= level & (values[1:] > values[:-1])
                level &= values[1:] == values[:-1]
            rises[self.cases.starts[1:] - 1] = True
            if rises.all():
                return None
        else:
            by_case = np.argsort(self.cases.of_row, kind="stable")
            if self._rises_along(by_case):
                return by_case
        return np.lexsort([*(values for values in reversed(self._when)), self.cases.of_row])

    def _rises_along(self, order: Rows) -> bool:
        """True where the occasions of each case rise along an order that puts the cases together."""
        case = self.cases.of_row[order]
        fine = case[1:] != case[:-1]
        level = ~fine
        for values in self._when:
            along = values[order]
            fine |= level & (along[1:] > along[:-1])
            level &= along[1:] == along[:-1]
        return bool(fine.all())

    @cached_property
    def starts(self) -> Rows:
        """First place of each case among the rows in order."""
        if self.order is None:
            return self.cases.starts
        case = self.cases.of_row[self.order]
        return np.flatnonzero(np.append(True, case[1:] != case[:-1])) if len(case) else np.zeros(0, np.int64)

    @cached_property
    def lengths(self) -> Rows:
        """Number of rows of each case, in order."""
        return np.diff(np.append(self.starts, len(self.table)))

    @cached_property
    def numbers(self) -> Rows:
        """For each place among the rows in order its number in its case, counted from 0."""
        return np.arange(len(self.table)) - np.repeat(self.starts, self.lengths)

    def in_order(self, values: Array) -> Array:
        """Values of rows, put in order."""
        return values if self.order is None else values[self.order]

    def of_rows(self, values: Array) -> Array:
        """Values of the rows in order, put back where the rows stand."""
        if self.order is None:
            return values
        back = np.empty_like(values)
        back[self.order] = values
        return back

    def rows_at(self, places: Rows) -> Rows:
        """For each row, the row that stands at a place among the rows in order; -1 stays."""
        if self.order is None:
            return places
        return self.of_rows(np.where(places < 0, -1, self.order[places]))

    def back(self, steps: int) -> Rows:
        """For each row the row so many occasions before it in its case (after it where negative); -1 for none."""
        places = np.arange(len(self.table)) - steps
        left = self.numbers if steps >= 0 else np.repeat(self.lengths, self.lengths) - 1 - self.numbers
        places[left < abs(steps)] = -1
        return self.rows_at(places)

    def ends(self, *, last: bool) -> Rows:
        """For each row the row of its case's first occasion, or the last one."""
        at = self.starts + self.lengths - 1 if last else self.starts
        return self.rows_at(np.repeat(at, self.lengths))

    def _require_different(self) -> None:
        """Stop where two rows are of one case and one occasion: then there is no order."""
        same = np.zeros(max(len(self.table) - 1, 0), np.bool_)
        if self.order is None or not len(same):
            return
        case = self.cases.of_row[self.order]
        same = case[1:] == case[:-1]
        for values in self._when:
            along = values[self.order]
            same &= along[1:] == along[:-1]
        if not same.any():
            return
        twice = np.flatnonzero(same)
        some = twice[:MOST_EXAMPLES]
        names = [*self.cases.names, *self.occasion]
        texts = key_texts(self.table, names, self.order[some])
        rows = zip(self.order[some].tolist(), self.order[some + 1].tolist(), strict=True)
        shown = [
            f"{text} (rows {one + self.table.first_row}, {other + self.table.first_row})"
            for text, (one, other) in zip(texts, rows, strict=True)
        ]
        raise DataError(
            f"{counted(len(twice), 'row repeats its', 'rows repeat their')} case and occasion, so what comes before "
            "what is not clear.",
            where="; ".join(shown) + (" …" if len(twice) > len(some) else ""),
            todo="Mend the file, or name a further ‹occasion› that tells the rows apart.",
        )
