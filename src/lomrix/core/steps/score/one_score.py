"""One score: its items, turned round and in their span, and what becomes of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.scales import Reliability, reliability
from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.operands import first_reason
from lomrix.core.rows.turned import turned_already
from lomrix.core.table.column import Column
from lomrix.core.table.notes import counted
from lomrix.core.table.reasons import NOT_IN_FILE, TOO_FEW
from lomrix.core.table.scale import Scale, span_of
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

MOST_EXAMPLES = 5
# Places of the reasons that a score has besides those of its items.
TOO_FEW_ITEMS, NO_ITEM = 1, 2


@dataclass
class ScoreOf:
    """One score on its way.

    Parameters
    ----------
    table
        What holds the items.
    name, scale
        Name of the score, and how it is made.
    wanted
        The items in order.
    columns
        The column of each item that is there.
    reverse
        Items that are worded the other way round.
    occasion
        Which occasion it is of, in words; empty where there is but one.
    """

    table: Table
    name: str
    scale: Scale
    wanted: tuple[str, ...]
    columns: Mapping[str, str]
    reverse: tuple[str, ...]
    occasion: str = ""

    def __post_init__(self) -> None:
        strange = [item for item in self.reverse if item not in self.wanted]
        if strange:
            raise UsageError(f"{', '.join(strange)} of ‹reverse› is no item of {self.name}.", todo="Name items only.")
        if self.scale.at_least > len(self.wanted):
            raise UsageError(
                f"{self.name} has {len(self.wanted)} items, so {self.scale.at_least} cannot be present.",
                todo=f"Say ‹at_least={len(self.wanted)}› or fewer.",
            )
        self._require_numbers()
        self._require_inside()

    @property
    def items(self) -> list[str]:
        """The columns of the items."""
        return [self.columns[item] for item in self.wanted if item in self.columns]

    @cached_property
    def span(self) -> tuple[float, float] | None:
        """Lowest and highest score of an item: as said, else as the dictionary has it for all of them.

        Raises
        ------
        UsageError
            Where items are turned round and nobody says in which span.
        """
        if self.scale.span:
            return span_of(self.scale.span)
        known = {(entry.minimum, entry.maximum) for entry in map(self.table.dictionary.of, self.items)}
        low, high = known.pop() if len(known) == 1 else (None, None)
        if isinstance(low, int | float) and isinstance(high, int | float):
            return float(low), float(high)
        if self.reverse:
            raise UsageError("Items are turned round in a span, and none was said.", todo="Say ‹span=0:3›.")
        return None

    @cached_property
    def turned_before(self) -> set[str]:
        """Columns that an earlier step turned round already."""
        return turned_already(self.table, self.items)

    @cached_property
    def turned(self) -> list[str]:
        """Columns that are turned round here."""
        found = [self.columns[item] for item in self.reverse if item in self.columns]
        return [name for name in found if name not in self.turned_before]

    def _require_numbers(self) -> None:
        for name in self.items:
            column = self.table[name]
            if column.type not in ("integer", "number", "boolean") and not column.is_without_values:
                raise DataError(
                    f"The item {name} is {column.type}, not a number.",
                    todo="Mend it first; check names the cells, recode turns words into scores.",
                )

    def _require_inside(self) -> None:
        """Stop where a score is outside the span."""
        if self.span is None:
            return
        low, high = self.span
        told, count = [], 0
        for name in self.items:
            column = self.table[name].fitting("number")
            rows = np.flatnonzero(~column.is_missing & ((column.values < low) | (column.values > high)))
            count += len(rows)
            told += [f"row {row + self.table.first_row} {name} {column.values[row]:g}" for row in rows[:MOST_EXAMPLES]]
        if count:
            raise DataError(
                f"{counted(count, 'cell is', 'cells are')} outside the span {low:g} to {high:g} of {self.name}.",
                where="; ".join(told[:MOST_EXAMPLES]) + (" …" if count > MOST_EXAMPLES else ""),
                todo="Mend the cells, declare them as missing codes in the dictionary, or name the right ‹span›.",
            )

    # --------------------------------------------------------------- the score

    @cached_property
    def cells(self) -> list[npt.NDArray[np.float64]]:
        """The items as they count: turned round where that is wanted, 0 where missing."""
        found = []
        for name in self.items:
            column = self.table[name].fitting("number")
            values = column.values.astype(np.float64)
            if name in self.turned and self.span is not None:
                values = sum(self.span) - values
            found.append(np.where(column.is_missing, 0.0, values))
        return found

    @cached_property
    def n(self) -> npt.NDArray[np.int64]:
        """How many items each row has."""
        return np.asarray(np.sum([~self.table[name].is_missing for name in self.items], axis=0, dtype=np.int64))

    @property
    def needed(self) -> int:
        """How many items must be present."""
        return self.scale.at_least or len(self.wanted)

    @cached_property
    def column(self) -> Column:
        """The score, missing where too few items are present."""
        total = np.sum(self.cells, axis=0)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = total / self.n
        values = (
            mean
            if self.scale.method == "mean"
            else np.where(self.n == len(self.wanted), total, mean * len(self.wanted))
        )
        short = self.n < self.needed
        why, reasons = self._why(short)
        whole = self.scale.method == "sum" and bool((np.nan_to_num(values[~short]) % 1 == 0).all())
        filled = np.where(short, 0, np.nan_to_num(values))
        return Column.of("integer" if whole and self._is_whole else "number", filled, why, reasons)

    def _why(self, short: npt.NDArray[np.bool_]) -> tuple[npt.NDArray[np.uint8], tuple[str, ...]]:
        """Why a score is missing: too few items; where none is there, or all are needed, what their first one says."""
        found, names = first_reason([self.table[name] for name in self.items])
        why = np.where(short, TOO_FEW_ITEMS if self.scale.at_least else NO_ITEM, 0)
        if found is not None:
            told = short & (found > 0) & ((self.n == 0) | (not self.scale.at_least))
            why = np.where(told, found.astype(np.int64) + NO_ITEM, why)
        return why.astype(np.uint8), (TOO_FEW, NOT_IN_FILE, *names)

    @property
    def _is_whole(self) -> bool:
        return all(self.table[name].type in ("integer", "boolean") for name in self.items)

    @cached_property
    def prorated(self) -> int:
        """Rows whose score is made of some items only."""
        return int(np.count_nonzero((self.n >= self.needed) & (self.n < len(self.wanted))))

    @cached_property
    def reliability(self) -> Reliability:
        """How the items go together over the rows that have all of them; one that nobody was asked does not count."""
        asked = [at for at, name in enumerate(self.items) if not self.table[name].is_without_values]
        whole = np.flatnonzero(self.n == len(asked))
        found = reliability(np.stack([self.cells[at][whole] for at in asked], axis=1) if asked else np.zeros((0, 0)))
        of_each = np.full((2, len(self.items)), np.nan)
        of_each[:, asked] = found.item_rest, found.alpha_without
        return Reliability(found.n, found.alpha, of_each[0], of_each[1])

    def described(self) -> Variable:
        """The score's entry in the dictionary."""
        items = f"{self.scale.method} of {self.scale.items}"
        turned = (
            f", {', '.join(self.turned)} turned round in {self.span[0]:g} to {self.span[1]:g}"
            if self.turned and self.span
            else ""
        )
        least = f", at least {self.needed} of {len(self.wanted)} present" if self.scale.at_least else ""
        prorated = ", prorated" if self.scale.at_least and self.scale.method == "sum" else ""
        label = self.scale.label + (f", {self.occasion}" if self.scale.label and self.occasion else "")
        times = len(self.wanted) if self.scale.method == "sum" else 1
        limits = {"minimum": times * self.span[0], "maximum": times * self.span[1]} if self.span else {}
        return Variable(label=label, description=f"Score: {items}{turned}{least}{prorated}.", **limits)
