"""Retention: which share of a group's first occasion was seen at the others, and who left for good."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.suppression import Tree, find_determined, protect
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.keys import Groups, group_with_missing
from lomrix.core.steps.account import Listing
from lomrix.core.steps.coverage.patterns import Patterns
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.reasons import SUPPRESSED, UNDEFINED
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import Variable

Counts = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
NEW_COLUMNS = {
    "seen": "cases seen",
    "of_first": "percentage of the cases of the first occasion that were seen",
    "left_for_good": "cases seen for the last time",
}
# With more numbers than this those who left for good are hidden altogether if one of them must be.
MOST_PROTECTED = 400
TODO = "Use a column that is constant within a case, such as one of the first occasion."


@dataclass(frozen=True)
class RetentionFigure:
    """The percentages of the first occasion to be drawn; NaN where suppressed."""

    occasion: str
    values: tuple[Any, ...]  # of the occasions
    texts: tuple[str, ...]
    by: str
    groups: tuple[str, ...]
    shares: npt.NDArray[np.float64]  # shape (groups, occasions)

    @property
    def is_empty(self) -> bool:
        """True if there is no group."""
        return not self.groups


@dataclass
class Retention:
    """Who stayed, by group of cases."""

    table: Table
    grid: Grid
    patterns: Patterns
    by: tuple[str, ...]
    min_n: int
    occasions: list[str]  # in words

    @cached_property
    def groups(self) -> Groups:
        """The group of each case; missing values are groups of their own."""
        cases = self.grid.cases
        rows = {name: cases.find_constant_rows(name, "stop", TODO) for name in self.by}
        return group_with_missing(Table({name: self.table[name].take(rows[name]) for name in self.by}), self.by)

    @cached_property
    def _cells(self) -> dict[str, Counts]:
        """For each number the group of every case that counts at an occasion (-1: it does not), by occasion."""
        seen, codes, last = self.patterns.seen, self.groups.codes, self.patterns.last
        times = range(self.grid.times)
        return {
            "seen": np.array([np.where(seen[:, time], codes, -1) for time in times]),
            "kept": np.array([np.where(seen[:, time] & seen[:, 0], codes, -1) for time in times]),
            "left_for_good": np.array([np.where(last == time, codes, -1) for time in times]),
        }

    @cached_property
    def counts(self) -> dict[str, Counts]:
        """Numbers of cases, each of shape (groups, occasions)."""
        size, times = self.groups.count, self.grid.times
        return {
            name: np.array([np.bincount(codes[codes >= 0], minlength=size) for codes in cells]).reshape(times, size).T
            for name, cells in self._cells.items()
        }

    @cached_property
    def hidden(self) -> dict[str, Mask]:
        """Which numbers are suppressed, each of shape (groups, occasions)."""
        size, times = self.groups.count, self.grid.times
        if not self.min_n:
            return {name: np.zeros((size, times), np.bool_) for name in self.counts}
        one_total = [np.zeros(size, np.int64)]
        masks = {}
        for name, cells in self._cells.items():
            trees = [Tree(codes, one_total, size, None, self.min_n) for codes in cells]
            hidden = np.array([tree.suppress()[0] for tree in trees], np.bool_)
            masks[name] = hidden.reshape(times, size).T
        masks["left_for_good"] = self._protect_sums(masks["left_for_good"])
        for name in ("seen", "kept"):
            masks[name][:, -1:] |= masks["left_for_good"][:, -1:]
        # The percentage and the number of one occasion give the number of the first.
        masks["kept"] |= masks["seen"][:, :1]
        return masks

    def _protect_sums(self, hidden: Mask) -> Mask:
        """Hide more of those who left, since over the occasions they add up to the group."""
        size, times = hidden.shape
        if not hidden.any() or times < 2:
            return hidden
        if hidden.size > MOST_PROTECTED:
            return np.hstack([np.ones_like(hidden[:, :-1]), hidden[:, -1:]])
        numbers = np.arange(size * times).reshape(size, times)
        equations = np.zeros((size + times, size * times))
        for group in range(size):
            equations[group, numbers[group]] = 1
        for time in range(times):
            equations[size + time, numbers[:, time]] = 1
        values = self.counts["left_for_good"].ravel()
        # Who was seen for the last time at the last occasion are those seen then, whose number is shown or not.
        known = np.zeros_like(hidden)
        known[:, -1] = ~hidden[:, -1]
        result = protect(equations, values, hidden.ravel(), known.ravel()).reshape(size, times)
        if find_determined(equations, result.ravel()).any():  # nobody else left, so even those numbers tell
            result[:, :-1] = True
        if find_determined(equations, result.ravel()).any():  # of two occasions the last one tells the first
            result[:] = True
        return result

    @cached_property
    def shares(self) -> npt.NDArray[np.float64]:
        """Percentage of the cases of a group's first occasion that were seen; NaN where suppressed or undefined."""
        kept = self.counts["kept"].astype(np.float64)
        with np.errstate(invalid="ignore", divide="ignore"):
            shares = 100 * kept / kept[:, :1]
        return np.where(self.hidden["kept"], np.nan, shares)

    @cached_property
    def labels(self) -> list[str]:
        """The groups in words."""
        parts = []
        for name in self.by:
            codes = CodeList(self.table.dictionary.labels_of(name))
            texts = self.groups.values[name].to_text().to_pylist()
            reasons = self.groups.values[name].reason_cells(np.arange(self.groups.count))
            parts.append(
                [reason or codes.label_of(text) or str(text) for text, reason in zip(texts, reasons, strict=True)]
            )
        return [", ".join(words) for words in zip(*parts, strict=True)]

    # ------------------------------------------------------------------ results

    def make_table(self) -> Table:
        """Return one row for each group and occasion."""
        size, times = self.groups.count, self.grid.times
        group = np.repeat(np.arange(size), times)
        columns = {name: column.take(group) for name, column in self.groups.values.items()}
        for index, name in enumerate(self.grid.names):
            values = [occasion[index] for occasion in self.grid.occasions]
            column = Column.of_cells(self.table[name].type, values) if values else self.table[name]
            columns[name] = column.take(np.tile(np.arange(times), size))
        for name in NEW_COLUMNS:
            require_new_name(name, columns, "a number of cases")
        undefined = np.isnan(self.shares) & ~self.hidden["kept"]
        at_end = np.zeros((size, times), np.bool_)
        at_end[:, -1:] = True
        columns["seen"] = self._to_column(self.counts["seen"], self.hidden["seen"])
        columns["of_first"] = self._to_column(np.nan_to_num(np.round(self.shares, 1)), self.hidden["kept"], undefined)
        columns["left_for_good"] = self._to_column(self.counts["left_for_good"], self.hidden["left_for_good"], at_end)
        dictionary = self.table.dictionary
        for name, label in NEW_COLUMNS.items():
            dictionary = dictionary.with_variable(name, Variable(label=label))
        return Table(columns, dictionary.for_columns(columns), name="retention")

    @staticmethod
    def _to_column(values: npt.NDArray[Any], hidden: Mask, undefined: Mask | None = None) -> Column:
        column = Column.of("integer" if values.dtype.kind == "i" else "number", values.ravel())
        if undefined is not None:
            column = column.with_missing(undefined.ravel(), UNDEFINED)
        return column.clear_missing(hidden.ravel()).with_missing(hidden.ravel(), SUPPRESSED)

    def make_listing(self) -> Listing:
        """List who stayed."""
        lines: list[tuple[object, ...]] = []
        for group, label in enumerate(self.labels):
            for time, occasion in enumerate(self.occasions):
                share = self.shares[group, time]
                lines.append((
                    label if time == 0 else "", occasion,
                    self._show(int(self.counts["seen"][group, time]), self.hidden["seen"][group, time]),
                    self._show("" if np.isnan(share) else f"{share:.1f}", self.hidden["kept"][group, time]),
                    "" if time + 1 == len(self.occasions) else self._show(
                        int(self.counts["left_for_good"][group, time]), self.hidden["left_for_good"][group, time]
                    ),
                ))  # fmt: skip
        first = self.occasions[0] if self.occasions else ""
        heads = (", ".join(self.by), ", ".join(self.grid.names), "seen", f"% of those at {first}", "left for good")
        return Listing("who stayed, by group", heads, tuple(lines))

    @staticmethod
    def _show(number: object, hidden: object) -> object:
        return SUPPRESSED if hidden else number

    def make_figure(self) -> RetentionFigure:
        """Return what is drawn."""
        values = tuple(occasion[-1] for occasion in self.grid.occasions)
        names = self.grid.names
        return RetentionFigure(
            ", ".join(names), values if len(names) == 1 else tuple(self.occasions), tuple(self.occasions),
            ", ".join(self.by), tuple(self.labels), self.shares,
        )  # fmt: skip

    def make_notes(self) -> Iterator[Note]:
        """Note what was suppressed."""
        count = int(sum(np.count_nonzero(mask) for mask in self.hidden.values()))
        if count:
            text = (
                f"{pluralize(count, 'number')} {plural(count, 'is', 'are')} suppressed: fewer than {self.min_n} cases, "
            )
            text += "or others that would tell them."
            yield Note(text, ", ".join(self.by), (), "suppressed", count, done=True)


def format_share(part: int, whole: int) -> str:
    """Format a percentage with one decimal."""
    return f"{100 * part / whole:.1f}" if whole else ""
