"""Statistics of a column by group, and the missing cells of the result."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.ordinals import Extent
from lomrix.core.arrays.statistics import STATISTICS, WEIGHTED, Values, WeightedValues
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import rank_cells
from lomrix.core.rows.statistic_names import NUMERIC, OF_A_ROW, QUANTILE, SHARE
from lomrix.core.table.codes import RANGE
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes as Labels
from lomrix.core.table.numbers import is_number
from lomrix.core.table.reasons import UNDEFINED

BOUNDS = ("ci_low", "ci_high")


@dataclass
class Summary:
    """Statistics of one column by group."""

    column: Column  # the column, n cells
    codes: npt.NDArray[np.int64]  # group of each row, int64 of shape (n,); -1 for rows in no group
    count: int  # number of groups
    rows: npt.NDArray[np.int64]  # number of rows of each group
    labels: Labels | None = None  # the column's codes
    # weight of each row, NaN where it has none; None where all count alike
    weights: npt.NDArray[np.float64] | None = None
    extent: Extent | None = None  # of the whole column's present cells in groups, where this is a part
    is_on_disk: bool = False  # whether there are only cells that count, which are mapped from disk

    @cached_property
    def present(self) -> npt.NDArray[np.int64] | None:
        """Rows whose cell counts; None if all do."""
        if self.is_on_disk:
            return None
        inside = self.codes >= 0
        if self.column.why is None and self.weights is None and inside.all():
            return None
        inside &= ~self.column.is_missing
        if self.weights is not None:
            inside &= ~np.isnan(self.weights)
        return np.flatnonzero(inside)

    def _take_present(self, values: Array) -> Array:
        return values if self.present is None else values[self.present]

    @cached_property
    def values(self) -> Values:
        """The present cells by group: numbers, days, or ranks of texts."""
        column = self.column
        values = rank_cells(column)[0] if column.type == "string" else column.values
        values = self._take_present(values)
        if column.type in ("date", "datetime"):
            values = values.view(np.int64)
        known = self.rows if self.present is None and not self.is_on_disk else None
        return Values(self._take_present(self.codes), values, self.count, known, self.extent, self.is_on_disk)

    @cached_property
    def weighted(self) -> WeightedValues:
        """The present cells with their weights."""
        assert self.weights is not None
        values = self.values
        return WeightedValues(values.codes, values.values, self._take_present(self.weights), self.count)

    @property
    def mean_and_half_interval(self) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
        """The mean of each group and half its 95 % interval (NaN for weighted means)."""
        if self.weights is None:
            return self.values.mean, self.values.half_interval
        return self.weighted.mean, np.full(self.count, np.nan)

    # --------------------------------------------------------------- statistics

    def compute(self, name: str) -> Column:
        """Compute one statistic, such as `mean`, `q90`, `share(2)` or `ci_low`; one cell per group."""
        # Overflow is reported as undefined, not by NumPy on the screen.
        with np.errstate(all="ignore"):
            return self._compute_any(name)

    def _compute_any(self, name: str) -> Column:
        n = self.values.sizes
        if name == "n":
            return Column.of("integer", n)
        if name == "missing":
            return Column.of("integer", self.rows - n)
        if name == "distinct":
            return Column.of("integer", self.values.distinct)
        why = (n == 0).astype(np.uint8)
        if name in OF_A_ROW:
            return self._take_rows(name, why)
        share = SHARE.fullmatch(name)
        result = self._compute_share(share[1]) if share else self._compute(name)
        if result.dtype == object:  # whole numbers beyond 64 bits
            overflows = np.array([not -(2**63) <= value < 2**63 for value in result])
            why[(why == 0) & overflows] = 1
            return Column.of("integer", np.where(overflows, 0, result).astype(np.int64), why, (UNDEFINED,))
        why[(why == 0) & ~np.isfinite(result)] = 1
        return self._to_type(name, result, why)

    def _to_type(self, name: str, result: Array, why: npt.NDArray[np.uint8]) -> Column:
        type_, reasons = self.column.type, (UNDEFINED,)
        if type_ in ("date", "datetime") and not SHARE.fullmatch(name):
            whole = np.where(why == 0, np.nan_to_num(result), 0).astype(np.int64)
            return Column.of(type_, whole.astype(self.column.values.dtype), why, reasons)
        if result.dtype.kind == "i" and type_ == "integer":
            return Column.of("integer", result, why, reasons)
        return Column.of("number", result.astype(np.float64), why, reasons)

    def _compute(self, name: str) -> Array:
        if self.weights is not None:
            return WEIGHTED[name](self.weighted)
        if name in BOUNDS:
            half = self.values.half_interval
            return self.values.mean + (half if name == "ci_high" else -half)
        quantile = QUANTILE.fullmatch(name)
        return self.values.quantile(int(quantile[1]) / 100) if quantile else STATISTICS[name](self.values)

    def _compute_share(self, value: str) -> Array:
        """Compute the share of the present cells that hold a value."""
        hit = self._take_present(equals_value(self.column, value, self.labels or {}))
        if self.weights is not None:
            weighted = WeightedValues(self.values.codes, hit.astype(np.float64), self.weighted.weights, self.count)
            return weighted.mean
        hits = np.bincount(self.values.codes[hit], minlength=self.count)
        with np.errstate(invalid="ignore"):
            return np.asarray(hits / self.values.sizes)

    def _take_rows(self, name: str, why: npt.NDArray[np.uint8]) -> Column:
        """Return the cells of one row of each group."""
        value = self.values.most_frequent if name == "commonest" else None
        positions = self.values.first_position(last=name == "last", value=value)
        rows = positions if self.present is None else np.append(self.present, 0)[positions]
        return self.column.take_or(np.where(why == 0, rows, -1), UNDEFINED)


def equals_value(column: Column, value: str, labels: Labels) -> npt.NDArray[np.bool_]:
    """Return where a cell holds a value given as text, or as the label of its code.

    Raises UsageError if no cell of this type can hold it.
    """
    target = value.strip().strip("'\"")
    by_label = {label: code for code, label in labels.items()}
    target = target if target in labels else by_label.get(target, target)
    code_range = RANGE.fullmatch(target) if target in labels else None
    if code_range and column.type in ("integer", "number"):
        return np.asarray((column.values >= float(code_range[1])) & (column.values <= float(code_range[2])))
    if column.type == "string":
        coded = column.compact()
        position = coded.strings.strings.index(target).as_py()
        return np.asarray(coded.values == position) if position >= 0 else np.zeros(len(column), np.bool_)
    if column.type == "boolean" and target.lower() in ("true", "false"):
        return np.asarray(column.values == (target.lower() == "true"))
    if column.type in ("date", "datetime"):
        try:
            return np.asarray(column.values == np.datetime64(target))
        except ValueError:
            pass
    elif is_number(target):
        return np.asarray(column.values == float(target))
    raise UsageError(f'"{value}" is not a value of type {column.type}.', todo="Use share(2) or share(day).")


def get_weights(column: Column, name: str, first_row: int) -> npt.NDArray[np.float64]:
    """Return the weights of rows, NaN where missing.

    Raises DataError if one is not a number, or below 0.
    """
    if column.type not in NUMERIC:
        raise UsageError(
            f"The weight {name} is {column.type}, not a number.", todo="Name a column of numbers.", columns=[name]
        )
    values = np.where(column.is_missing, np.nan, column.values.astype(np.float64))
    below = np.flatnonzero(values < 0)
    if len(below):
        shown = ", ".join(f"row {row + first_row}: {values[row]:g}" for row in below[:MOST_EXAMPLES].tolist())
        raise DataError(f"{len(below):,} weights in {name} are below 0.", where=shown, todo="Correct them first.")
    return values
