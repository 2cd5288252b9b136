"""The sides of a comparison: which rows are of which group or occasion, and which belong to one case."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import Cases
from lomrix.core.rows.keys import Groups, grouped, key_texts
from lomrix.core.rows.occasions import rank_values
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
MOST_SIDES = 50
MOST_EXAMPLES = 4


@dataclass
class Sides:
    """What is compared with what.

    Parameters
    ----------
    table
        The table.
    between
        The column whose values are the sides; empty where all rows are one side.
    paired_on
        The columns that name the case; empty where rows are not paired.
    """

    table: Table
    between: str
    paired_on: tuple[str, ...] = ()
    order_notes: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        count = self.groups.count
        if self.between and not 2 <= count <= MOST_SIDES:
            what = f"has {count:,} values, too many to compare"
            if count < 2:
                what = (
                    f"has only the value {self.texts[0]}, so there is nothing to compare" if count else "has no value"
                )
            raise UsageError(
                f"{self.between} {what}.",
                todo="Name a column of groups or occasions; cut numbers into bands with derive.",
            )

    @cached_property
    def groups(self) -> Groups:
        """The sides in the order of their values: words as occasions come, where their order is known or matters."""
        if not self.between:
            return Groups(np.zeros(len(self.table), np.int64), 1, {})
        groups = grouped(self.table, (self.between,))
        column = groups.values[self.between]
        if column.type != "string":
            return groups
        first = np.full(groups.count, len(self.table))
        inside = np.flatnonzero(groups.codes >= 0)[::-1]
        first[groups.codes[inside]] = inside
        cells = column.cells()
        turns = [cells[at] for at in np.argsort(first, kind="stable").tolist()]
        ranks = rank_values(self.between, turns, self.table.dictionary)
        if ranks.by_appearance and not self.paired_on:
            return groups
        self.order_notes = [ranks.note] if ranks.note else []
        order = np.array(sorted(range(groups.count), key=lambda at: ranks.of[cells[at]]), np.int64)
        place = np.append(np.argsort(order), -1)
        return Groups(place[groups.codes], groups.count, {self.between: column.take(order)})

    @cached_property
    def texts(self) -> list[str]:
        """The sides as a person reads them."""
        if not self.between:
            return ["all"]
        codes = CodeList(self.table.dictionary.labels_of(self.between))
        texts = self.groups.values[self.between].to_text().to_pylist()
        return [codes.label_of(text) or text for text in texts]

    @cached_property
    def cases(self) -> Cases:
        """The cases."""
        return Cases(self.table, self.paired_on)

    @cached_property
    def row_of(self) -> Rows:
        """For each case and side its row, shape (cases, sides); -1 where there is none.

        Raises
        ------
        DataError
            Where a case has two rows on one side.
        """
        codes, inside = self.groups.codes, np.flatnonzero(self.groups.codes >= 0)
        place = self.cases.of_row[inside] * self.groups.count + codes[inside]
        counts = np.bincount(place, minlength=len(self.cases) * self.groups.count)
        twice = inside[counts[place] > 1]
        if len(twice):
            some = twice[: 2 * MOST_EXAMPLES]
            texts = key_texts(self.table, [*self.paired_on, self.between], some)
            shown = [
                f"row {row + self.table.first_row}: {text}" for row, text in zip(some.tolist(), texts, strict=True)
            ]
            raise DataError(
                f"{len(twice):,} rows repeat their case and {self.between}, so who is paired with whom is not clear.",
                where="; ".join(shown[:MOST_EXAMPLES]) + (" …" if len(twice) > MOST_EXAMPLES else ""),
                todo="Mend the file, or aggregate first: one row for each case and occasion.",
            )
        rows = np.full(len(counts), -1, np.int64)
        rows[place] = inside
        return rows.reshape(len(self.cases), self.groups.count)
