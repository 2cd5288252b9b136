"""The sides of a comparison: the values of the groups or occasions that are compared, in their order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.combining import Extreme
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import find_group_starts, group_rows, rank_cells
from lomrix.core.rows.occasions import rank_values
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.numbers import Type
from lomrix.core.table.table import Table

MOST_SIDES = 50
TODO = "Name a column of groups or occasions; cut numbers into bands with derive."
# The first row with each value of a column.
FirstRows = Mapping[Any, Extreme]


def find_first_rows(table: Table, name: str) -> dict[Any, Extreme]:
    """Return the first row with each value of a column.

    Raises UsageError if there are too many.
    """
    groups = group_rows(table, (name,))
    require_few_sides(name, groups.count)
    rows = table.number_rows(find_group_starts(groups.codes, groups.count))
    return {value: Extreme(row, False) for value, row in zip(groups.values[name].cells(), rows, strict=True)}


def require_few_sides(name: str, count: int) -> None:
    """Stop if a column has too many values to be compared."""
    if count > MOST_SIDES:
        raise UsageError(f"{name} has more than {MOST_SIDES} values, too many to compare.", todo=TODO)


def sort_values(type_: Type, values: list[Any]) -> Column:
    """Return distinct values as a column, in natural order."""
    column = Column.of_cells(type_, values)
    return column.take(np.argsort(rank_cells(column)[0], kind="stable"))


@dataclass(frozen=True)
class Sides:
    """What is compared with what; one side of all rows if no column is named."""

    between: str  # the column whose values are the sides
    values: Column
    texts: list[str]  # the sides as people read them
    notes: Sequence[Note] = ()  # that the order of the rows decided their order

    @classmethod
    def of(cls, between: str, type_: Type, first_rows: FirstRows, dictionary: Dictionary, *, paired: bool) -> Sides:
        """Order the values; occasions in their order if it is known, or if it matters.

        Raises UsageError if there are too few or too many.
        """
        if not between:
            return cls("", Column.of_cells("string", ["all"]), ["all"])
        values, notes = sort_values(type_, list(first_rows)), list[Note]()
        if type_ == "string" and first_rows:
            appearance = sorted(first_rows, key=lambda value: first_rows[value].value)
            ranks = rank_values(between, appearance, dictionary)
            if paired or not ranks.by_appearance:
                cells = sorted(values.cells(), key=lambda one: ranks.of[one])
                values, notes = Column.of_cells(type_, cells), ranks.notes
        codes = CodeList(dictionary.labels_of(between))
        texts = [codes.label_of(text) or text for text in values.to_text().to_pylist()]
        require_few_sides(between, len(texts))
        if len(texts) < 2:
            one = f"has only the value {''.join(texts)}, so there is nothing to compare"
            raise UsageError(f"{between} {one if texts else 'has no value'}.", todo=TODO)
        return cls(between, values, texts, notes)

    @property
    def keys(self) -> list[Any]:
        """The value of each side, by which the sums of parts are found."""
        return self.values.cells() if self.between else [None]

    def encode(self, table: Table) -> npt.NDArray[np.int64]:
        """Return the side of each row, -1 for none."""
        if not self.between:
            return np.zeros(len(table), np.int64)
        groups = group_rows(table, (self.between,))
        position = {value: index for index, value in enumerate(self.keys)}
        return np.array([*(position[value] for value in groups.values[self.between].cells()), -1], np.int64)[
            groups.codes
        ]
