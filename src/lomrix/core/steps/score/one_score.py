"""One score: its items, reversed and within their span, and the result."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.scales import Reliability, compute_reliability
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.operands import merge_reasons
from lomrix.core.rows.reversed_items import find_reversed
from lomrix.core.table.column import Column
from lomrix.core.table.notes import pluralize
from lomrix.core.table.reasons import NOT_IN_FILE, TOO_FEW
from lomrix.core.table.scale import Scale, parse_span
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

# Numbers of the reasons that a score has besides those of its items.
TOO_FEW_ITEMS, NO_ITEM = 1, 2


@dataclass
class ItemScore:
    """One score being computed."""

    table: Table  # what holds the items
    name: str  # name of the score, and how it is made
    scale: Scale
    wanted: tuple[str, ...]  # the items in order
    columns: Mapping[str, str]  # the column of each item that is there
    reverse: tuple[str, ...]  # items that are worded the other way round
    occasion: str = ""  # which occasion it is of, in words; empty where there is but one

    def __post_init__(self) -> None:
        unknown = [item for item in self.reverse if item not in self.wanted]
        if unknown:
            raise UsageError(
                f"{', '.join(unknown)} in ‹reverse› is not an item of {self.name}.", todo="Name items only."
            )
        if self.scale.at_least > len(self.wanted):
            raise UsageError(
                f"{self.name} has {len(self.wanted)} items, so {self.scale.at_least} cannot be present.",
                todo=f"Use ‹at_least={len(self.wanted)}› or fewer.",
            )
        self._require_numbers()
        self._require_in_span()

    @property
    def items(self) -> list[str]:
        """The columns of the items."""
        return [self.columns[item] for item in self.wanted if item in self.columns]

    @cached_property
    def span(self) -> tuple[float, float] | None:
        """Lowest and highest score of an item: as stated, else from the dictionary if all items agree.

        Raises UsageError if items are reversed and no span is stated.
        """
        if self.scale.span:
            return parse_span(self.scale.span)
        limits = {(entry.minimum, entry.maximum) for entry in map(self.table.dictionary.of, self.items)}
        low, high = limits.pop() if len(limits) == 1 else (None, None)
        if isinstance(low, int | float) and isinstance(high, int | float):
            return float(low), float(high)
        if self.reverse:
            raise UsageError("Reverse scoring needs the span of the items.", todo="Use ‹span=0:3›.")
        return None

    @cached_property
    def reversed_before(self) -> set[str]:
        """Columns that an earlier step reversed."""
        return find_reversed(self.table, self.items)

    @cached_property
    def reversed_here(self) -> list[str]:
        """Columns that are reversed here."""
        columns = [self.columns[item] for item in self.reverse if item in self.columns]
        return [name for name in columns if name not in self.reversed_before]

    def _require_numbers(self) -> None:
        for name in self.items:
            column = self.table[name]
            if column.type not in ("integer", "number", "boolean") and not column.is_without_values:
                raise DataError(
                    f"The item {name} is {column.type}, not a number.",
                    todo="Correct it first; check lists the cells, recode turns words into scores.",
                    columns=[name],
                )

    def _require_in_span(self) -> None:
        """Stop if a score is outside the span."""
        if self.span is None:
            return
        low, high = self.span
        examples, count = [], 0
        for name in self.items:
            column = self.table[name].fit_type("number")
            rows = np.flatnonzero(~column.is_missing & ((column.values < low) | (column.values > high)))
            count += len(rows)
            examples += [
                f"row {row + self.table.first_row} {name} {column.values[row]:g}" for row in rows[:MOST_EXAMPLES]
            ]
        if count:
            raise DataError(
                f"{pluralize(count, 'cell is', 'cells are')} outside the span {low:g} to {high:g} of {self.name}.",
                where="; ".join(examples[:MOST_EXAMPLES]) + (" …" if count > MOST_EXAMPLES else ""),
                todo="Correct the cells, declare them as missing codes in the dictionary, or use the right ‹span›.",
            )

    # --------------------------------------------------------------- the score

    @cached_property
    def cells(self) -> list[npt.NDArray[np.float64]]:
        """The items as scored: reversed if needed, 0 where missing."""
        result = []
        for name in self.items:
            column = self.table[name].fit_type("number")
            values = column.values.astype(np.float64)
            if name in self.reversed_here and self.span is not None:
                values = sum(self.span) - values
            result.append(np.where(column.is_missing, 0.0, values))
        return result

    @cached_property
    def n(self) -> npt.NDArray[np.int64]:
        """Number of present items of each row."""
        return np.asarray(np.sum([~self.table[name].is_missing for name in self.items], axis=0, dtype=np.int64))

    @property
    def needed(self) -> int:
        """How many items must be present."""
        return self.scale.at_least or len(self.wanted)

    @cached_property
    def column(self) -> Column:
        """The score, missing if too few items are present."""
        total = np.sum(self.cells, axis=0)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = total / self.n
        values = (
            mean
            if self.scale.method == "mean"
            else np.where(self.n == len(self.wanted), total, mean * len(self.wanted))
        )
        is_short = self.n < self.needed
        why, reasons = self._find_reasons(is_short)
        is_integer = self.scale.method == "sum" and bool((np.nan_to_num(values[~is_short]) % 1 == 0).all())
        filled_values = np.where(is_short, 0, np.nan_to_num(values))
        return Column.of("integer" if is_integer and self._has_integers else "number", filled_values, why, reasons)

    def _find_reasons(self, is_short: npt.NDArray[np.bool_]) -> tuple[npt.NDArray[np.uint8], tuple[str, ...]]:
        """Return why a score is missing: too few items; or if none is present or all are needed, the first missing
        item's reason.
        """
        item_reasons, names = merge_reasons([self.table[name] for name in self.items])
        why = np.where(is_short, TOO_FEW_ITEMS if self.scale.at_least else NO_ITEM, 0)
        if item_reasons is not None:
            uses_item = is_short & (item_reasons > 0) & ((self.n == 0) | (not self.scale.at_least))
            why = np.where(uses_item, item_reasons.astype(np.int64) + NO_ITEM, why)
        return why.astype(np.uint8), (TOO_FEW, NOT_IN_FILE, *names)

    @property
    def _has_integers(self) -> bool:
        return all(self.table[name].type in ("integer", "boolean") for name in self.items)

    @cached_property
    def prorated(self) -> int:
        """Rows whose score is computed from some items only."""
        return int(np.count_nonzero((self.n >= self.needed) & (self.n < len(self.wanted))))

    @cached_property
    def reliability(self) -> Reliability:
        """Reliability over the rows with all items; items without any value are left out."""
        indexes = [index for index, name in enumerate(self.items) if not self.table[name].is_without_values]
        complete = np.flatnonzero(self.n == len(indexes))
        result = compute_reliability(
            np.stack([self.cells[index][complete] for index in indexes], axis=1) if indexes else np.zeros((0, 0))
        )
        statistics = np.full((2, len(self.items)), np.nan)
        statistics[:, indexes] = result.item_rest, result.alpha_without
        return Reliability(result.n, result.alpha, statistics[0], statistics[1])

    def describe(self) -> Variable:
        """Return the score's entry in the dictionary."""
        items = f"{self.scale.method} of {self.scale.items}"
        reversed_text = (
            f", {', '.join(self.reversed_here)} reversed within {self.span[0]:g} to {self.span[1]:g}"
            if self.reversed_here and self.span
            else ""
        )
        minimum_text = f", at least {self.needed} of {len(self.wanted)} present" if self.scale.at_least else ""
        prorated = ", prorated" if self.scale.at_least and self.scale.method == "sum" else ""
        label = self.scale.label + (f", {self.occasion}" if self.scale.label and self.occasion else "")
        times = len(self.wanted) if self.scale.method == "sum" else 1
        limits = {"minimum": times * self.span[0], "maximum": times * self.span[1]} if self.span else {}
        return Variable(label=label, description=f"Score: {items}{reversed_text}{minimum_text}{prorated}.", **limits)
