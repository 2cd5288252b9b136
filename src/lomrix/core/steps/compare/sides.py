"""The sides of a comparison: which rows belong to which group or occasion, and to which case."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import Cases
from lomrix.core.rows.keys import Groups, group_rows, show_repeated
from lomrix.core.rows.occasions import rank_values
from lomrix.core.table.codes import CodeList
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
MOST_SIDES = 50


@dataclass
class Sides:
    """What is compared with what."""

    table: Table  # the table
    between: str  # the column whose values are the sides; empty where all rows are one side
    paired_on: tuple[str, ...] = ()  # the columns that name the case; empty where rows are not paired
    order_notes: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        count = self.groups.count
        if self.between and not 2 <= count <= MOST_SIDES:
            problem = f"has {count:,} values, too many to compare"
            if count < 2:
                problem = (
                    f"has only the value {self.texts[0]}, so there is nothing to compare" if count else "has no value"
                )
            raise UsageError(
                f"{self.between} {problem}.",
                todo="Name a column of groups or occasions; cut numbers into bands with derive.",
            )

    @cached_property
    def groups(self) -> Groups:
        """The sides in the order of their values; occasions in their order if it is known or matters."""
        if not self.between:
            return Groups(np.zeros(len(self.table), np.int64), 1, {})
        groups = group_rows(self.table, (self.between,))
        column = groups.values[self.between]
        if column.type != "string":
            return groups
        first = np.full(groups.count, len(self.table))
        inside = np.flatnonzero(groups.codes >= 0)[::-1]
        first[groups.codes[inside]] = inside
        cells = column.cells()
        appearance = [cells[index] for index in np.argsort(first, kind="stable").tolist()]
        ranks = rank_values(self.between, appearance, self.table.dictionary)
        if ranks.by_appearance and not self.paired_on:
            return groups
        self.order_notes = [ranks.note] if ranks.note else []
        order = np.array(sorted(range(groups.count), key=lambda index: ranks.of[cells[index]]), np.int64)
        position = np.append(np.argsort(order), -1)
        return Groups(position[groups.codes], groups.count, {self.between: column.take(order)})

    @cached_property
    def texts(self) -> list[str]:
        """The sides as people read them."""
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
        """Row of each case and side, shape (cases, sides); -1 if there is none."""
        codes, inside = self.groups.codes, np.flatnonzero(self.groups.codes >= 0)
        cell = self.cases.of_row[inside] * self.groups.count + codes[inside]
        counts = np.bincount(cell, minlength=len(self.cases) * self.groups.count)
        if (counts > 1).any():
            of_row = np.full(len(self.table), -1, np.int64)
            of_row[inside] = cell
            rows = int(counts[counts > 1].sum())
            raise DataError(
                f"{rows:,} rows repeat their case and {self.between}, so they cannot be paired.",
                where=show_repeated(self.table, [*self.paired_on, self.between], of_row, counts),
                todo="Correct the file, or aggregate first: one row for each case and occasion.",
            )
        row_of = np.full(len(counts), -1, np.int64)
        row_of[cell] = inside
        return row_of.reshape(len(self.cases), self.groups.count)
