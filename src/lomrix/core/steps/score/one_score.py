"""One score: its items, reversed and within their span, and the result."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts, Numbers, to_floats
from lomrix.core.arrays.scales import Reliability, compute_reliability
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Extreme, Same, Shown
from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.operands import merge_reasons
from lomrix.core.rows.reversed_items import find_reversed
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.notes import pluralize
from lomrix.core.table.reasons import NOT_IN_FILE, TOO_FEW, UNDEFINED
from lomrix.core.table.scale import Scale, parse_span
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

# Numbers of the reasons that a score has besides those of its items.
TOO_FEW_ITEMS, NO_ITEM = 1, 2
NUMERIC = ("integer", "number", "boolean")


@dataclass(frozen=True)
class ScoreSurvey:
    """What must be known of all rows of a score; adds up over parts."""

    present: Mapping[str, int]  # present cells of each item
    decimals: int = 0  # scores that are not whole
    outside: int = 0  # cells outside the span, and the first of them
    examples: Shown = field(default_factory=lambda: Shown([], 0, separator="; "))


@dataclass(frozen=True)
class ScoreTally:
    """What the account says of a score; adds up over parts."""

    name: str
    prorated: int  # scores computed from some items only
    scores: CrossProducts
    minimum: Extreme
    maximum: Extreme
    items: Mapping[str, Fraction]  # sum of each item as scored
    complete: CrossProducts  # of the items that have values, in rows that have all of these
    present: Same  # cells of each item of the whole
    evidence: Mapping[str, CodeEvidence]  # of missing codes among the items

    @property
    def item_means(self) -> dict[str, float]:
        """Mean of each item as scored; NaN if it has no values."""
        present = self.present.value
        means = np.array([total / max(present[name], 1) for name, total in self.items.items()], object)
        return {
            name: mean if present[name] else np.nan
            for name, mean in zip(self.items, to_floats(means).tolist(), strict=True)
        }

    @cached_property
    def reliability(self) -> Reliability:
        """Reliability over the rows with all items; items without any value are left out."""
        result = compute_reliability(self.complete)
        indexes = [index for index, name in enumerate(self.items) if self.present.value[name]]
        statistics = np.full((2, len(self.items)), np.nan)
        statistics[:, indexes] = result.item_rest, result.alpha_without
        return Reliability(result.n, result.alpha, statistics[0], statistics[1])


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

    def survey(self) -> ScoreSurvey:
        """Survey a part: which items have values, whether the score has decimals, which cells are outside the span."""
        columns = {name: self.table[name] for name in self.items}
        present = {name: len(column) - column.missing_count for name, column in columns.items()}
        if any(present[name] and column.type not in NUMERIC for name, column in columns.items()):
            return ScoreSurvey(present)
        outside = {name: self._find_outside(column) for name, column in columns.items()}
        rows = np.unique(np.concatenate([*outside.values(), np.zeros(0, np.int64)]))[:MOST_EXAMPLES]
        examples = [
            (number, f"row {number} {name} {columns[name].values[row]:g}")
            for row, number in zip(rows.tolist(), self.table.number_rows(rows), strict=True)
            for name, cells in outside.items()
            if row in cells
        ]
        count = sum(map(len, outside.values()))
        decimals = int(np.count_nonzero(self.scores % 1))
        return ScoreSurvey(present, decimals, count, Shown(examples, count, separator="; "))

    def check(self, whole: ScoreSurvey) -> None:
        """Stop if an item is not a number, or a cell is outside the span.

        Raises DataError naming the item, or the cells.
        """
        for name in self.items:
            if whole.present[name] and self.table[name].type not in NUMERIC:
                raise DataError(
                    f"The item {name} is {self.table[name].type}, not a number.",
                    todo="Correct it first; check lists the cells, recode turns words into scores.",
                    columns=[name],
                )
        if whole.outside and self.span is not None:
            span, cells = "{:g} to {:g}".format(*self.span), pluralize(whole.outside, "cell is", "cells are")
            raise DataError(
                f"{cells} outside the span {span} of {self.name}.",
                where=whole.examples,
                todo="Correct the cells, declare them as missing codes in the dictionary, or use the right ‹span›.",
            )

    def _find_outside(self, column: Column) -> Array:
        """Return the rows whose score is outside the span."""
        if self.span is None:
            return np.zeros(0, np.int64)
        low, high = self.span
        values = column.fit_type("number").values
        return np.asarray(np.flatnonzero(~column.is_missing & ((values < low) | (values > high))))

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
    def is_short(self) -> npt.NDArray[np.bool_]:
        """True where too few items are present."""
        return np.asarray(self.n < self.needed)

    @cached_property
    def values(self) -> Numbers:
        """The score of each row, meaningless where too few items are present."""
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            total: Numbers = np.sum(self.cells, axis=0)
            mean: Numbers = total / self.n
            if self.scale.method == "mean":
                return mean
            return np.where(self.n == len(self.wanted), total, mean * len(self.wanted))

    @cached_property
    def sums_integers(self) -> bool:
        """True if the score is a whole number unless it is prorated."""
        has_integers = all(self.table[name].type in ("integer", "boolean") for name in self.items)
        return self.scale.method == "sum" and has_integers

    @cached_property
    def is_undefined(self) -> npt.NDArray[np.bool_]:
        """True where the score is beyond the range of numbers."""
        limit = 2.0**63 if self.sums_integers else np.inf
        return ~self.is_short & ~(np.abs(self.values) < limit)

    @property
    def scores(self) -> Numbers:
        """The scores that there are."""
        return self.values[~self.is_short & ~self.is_undefined]

    def make_column(self, whole: ScoreSurvey) -> Column:
        """Return the score, missing if too few items are present, or if it is beyond the range of numbers."""
        why, reasons = self._find_reasons(self.is_short)
        values = np.where(self.is_short | self.is_undefined, 0, self.values)
        column = Column.of("integer" if self.sums_integers and not whole.decimals else "number", values, why, reasons)
        return column.with_missing(self.is_undefined, UNDEFINED) if self.is_undefined.any() else column

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

    def tally(self, whole: ScoreSurvey) -> ScoreTally:
        """Return what a part adds to the account."""
        scores = self.scores
        with_values = [index for index, name in enumerate(self.items) if whole.present[name]]
        is_complete = self.n == len(with_values)
        complete = CrossProducts.of([self.cells[index][is_complete] for index in with_values])
        others = CrossProducts.of([cells[~is_complete] for cells in self.cells])
        sums = dict(zip(self.items, others.sums, strict=True))
        for index, of_complete in zip(with_values, complete.sums, strict=True):
            sums[self.items[index]] += of_complete
        return ScoreTally(
            name=self.name,
            prorated=int(np.count_nonzero((self.n >= self.needed) & (self.n < len(self.wanted)))),
            scores=CrossProducts.of([scores]),
            minimum=Extreme(scores.min() if len(scores) else None, is_maximum=False),
            maximum=Extreme(scores.max() if len(scores) else None, is_maximum=True),
            items=sums,
            complete=complete,
            present=Same(whole.present),
            evidence={name: CodeEvidence.of(self.table[name]) for name in self.items},
        )

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
