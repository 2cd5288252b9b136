"""Labelled counts and percentages of one variable, or of two crossed; missing cells separately."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.counted import CountedRows
from lomrix.core.rows.keys import find_group_starts, group_rows, rank_cells
from lomrix.core.steps.account import Account, Balance, Listing, Part, make_distinct_heads
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.wording import shorten_list

MOST_VALUES = 200
MOST_COLUMNS = 40
NUMBERS = ("cells", "percent", "valid_percent")
# What a percentage in a cross-count is of.
PERCENT_TEXTS = {"none": "", "row": ", % of the row", "column": ", % of the column"}


def count_rows(step: Tally, tables: Inputs) -> CountedRows:
    """Count the distinct rows of the variables and groups.

    Of a variable with too many values one more than allowed are kept, which is enough to refuse it.
    """
    counted = CountedRows.of(tables.get_one(), list(dict.fromkeys([*step.by, *step.variables])))
    if len(counted.counts) <= MOST_VALUES + 1:
        return counted
    columns = {name: limit_values(counted.table[name]) for name in step.variables}
    table = counted.table.with_columns({**counted.table.columns, **columns})
    return CountedRows.of(table, table.names, counted.counts)


def limit_values(column: Column) -> Column:
    """Return the column with its last values replaced, if it has more than needed."""
    column = column.compact()
    ranks, count = rank_cells(column)
    if count <= MOST_VALUES + 1:
        return column
    last = int(np.flatnonzero(ranks == MOST_VALUES)[0])
    return column.take(np.where(ranks > MOST_VALUES, last, np.arange(len(column))))


def tally(step: Tally, tables: Inputs, wanted: Collection[str], counted: CountedRows | None = None) -> Result:
    """Count; the result has one row for each value, or for each pair of values."""
    crossing = Crossing(step, count_rows(step, tables) if counted is None else counted)
    result = crossing.make_table()
    title = crossing.table.dictionary.of(step.variables[0]).label or step.variables[0]
    figure = BarFigure(result.take(crossing.find_present(result)), step.variables, step.by, title)
    return Result(result, crossing.make_account(result), {"figure": figure} if "figure" in wanted else {})


@dataclass(frozen=True)
class BarFigure:
    """Counts to be drawn as bars."""

    counts: Table  # one row for each value, or each pair of values, and group
    variables: tuple[str, ...]  # what was counted, and for which groups apart
    by: tuple[str, ...]
    title: str  # what the figure is called

    @property
    def is_empty(self) -> bool:
        """True if nothing was counted."""
        return not len(self.counts)


class Crossing:
    """The counts of each value of one variable, or of each pair of values of two, in each group."""

    def __init__(self, step: Tally, counted: CountedRows) -> None:
        self.step, self.counted, self.table = step, counted, counted.table
        self.scales = [Scale(counted, name) for name in step.variables]
        if len(self.scales) == 2 and len(self.scales[1].texts) > MOST_COLUMNS:
            raise DataError(
                f"{self.scales[1].name} has {len(self.scales[1].texts):,} values, too many for columns.",
                todo="Swap the two variables, or recode first.",
            )
        self.groups = group_rows(self.table, step.by).values if step.by else {}
        self.group_of_row = group_rows(self.table, step.by).codes if step.by else np.zeros(len(self.table), np.int64)
        self.group_count = len(next(iter(self.groups.values()))) if step.by else 1

    @cached_property
    def counts(self) -> Array:
        """Cells by group and position on each scale: shape (groups, positions), or (groups, positions, positions)."""
        shape = (self.group_count, *(len(scale.values) for scale in self.scales))
        cells = self.group_of_row
        for scale in self.scales:
            cells = np.where(cells < 0, -1, cells * len(scale.values) + scale.positions)
        return sum_counts(cells, int(np.prod(shape)), self.counted.counts).reshape(shape)

    @cached_property
    def titles(self) -> list[str]:
        """The values of each group as shown; a single empty one without groups."""
        if not self.groups:
            return [""]
        parts = []
        for name, column in self.groups.items():
            labels = CodeList(self.table.dictionary.labels_of(name))
            parts.append([f"{name} {labels.label_of(text) or text}" for text in column.to_text().to_pylist()])
        return [", ".join(texts) for texts in zip(*parts, strict=True)]

    # ------------------------------------------------------------------ result

    def make_table(self) -> Table:
        """Return the counts as a table, with labels of values and groups."""
        counts = self.counts
        if len(self.scales) == 2:
            counts = counts[:, : len(self.scales[0].texts), : len(self.scales[1].texts)]
        # Values crossed are listed also where no row has them.
        group, *positions = np.indices(counts.shape).reshape(counts.ndim, -1)
        if len(self.scales) == 1:
            group, *positions = np.nonzero(counts)
        columns = {name: column.take(group) for name, column in self.groups.items()}
        columns |= {scale.name: scale.values.take(cells) for scale, cells in zip(self.scales, positions, strict=True)}
        cells = counts[group, *positions]
        columns["cells"] = Column.of("integer", cells)
        if len(self.scales) == 1:
            is_valid = positions[0] < len(self.scales[0].texts)
            valid = counts[:, : len(self.scales[0].texts)].sum(axis=1)[group]
            shares = np.where(is_valid, divide(100 * cells, valid), np.nan)
            columns["percent"] = Column.of("number", divide(100 * cells, counts.sum(axis=1)[group]))
            columns["valid_percent"] = Column.of("number", shares, (~is_valid).astype(np.uint8), (UNDEFINED,))
        elif self.step.percent != "none":
            columns["percent"] = Column.of("number", self.compute_shares(counts)[group, *positions])
        return Table(columns, self.describe(), name="tally")

    def compute_shares(self, counts: Array) -> Array:
        """Return the percentages of two variables crossed, of the row or of the column."""
        return divide(100 * counts, counts.sum(axis=2 if self.step.percent == "row" else 1, keepdims=True))

    def describe(self) -> Dictionary:
        """Return the labels of values and groups."""
        source, dictionary = self.table.dictionary, Dictionary()
        for name in dict.fromkeys((*self.groups, *self.step.variables)):
            if labels := source.labels_of(name):
                dictionary = dictionary.with_codes(name, labels)
                dictionary = dictionary.with_variable(name, Variable(label=source.of(name).label, codes=name))
        return dictionary

    def find_present(self, result: Table) -> Array:
        """Return the rows of the result in which no variable is missing."""
        return np.flatnonzero(np.logical_and.reduce([~result[scale.name].is_missing for scale in self.scales]))

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report the counted cells, and the rows not counted."""
        counted = self.counted.choose(np.flatnonzero(self.group_of_row >= 0))
        outside = self.counted.total - counted.total
        parts: list[Part] = []
        for scale in self.scales:
            reasons = counted.count_reasons(scale.name)
            parts += [Part("missing", count, "value", scale.name, reason) for reason, count in reasons.items()]
            counted = counted.choose(np.flatnonzero(~counted.table[scale.name].is_missing))
        kept = int(result["cells"].values[self.find_present(result)].sum())
        parts = [Part("kept", kept, "counted"), *parts, Part("unused", outside, "no-group")]
        lists = self.list_values if len(self.scales) == 1 else self.list_pairs
        names = " by ".join(scale.name for scale in self.scales)
        return Account(
            "tally",
            f"{names}: {pluralize(self.counted.total, 'row')}.",
            (Balance("rows", self.counted.total, tuple(parts), self.table.name),),
            {"variables": list(self.step.variables), "counts": list_counts(result)},
            tuple(map(lists, self.titles, self.counts)),
            tuple(note for scale in self.scales for note in scale.make_notes()),
        )

    def list_values(self, title: str, counts: Array) -> Listing:
        """List the counts of one variable in a group."""
        (scale,) = self.scales
        total, valid = int(counts.sum()), int(counts[: len(scale.texts)].sum())
        lines: list[tuple[object, ...]] = []
        cumulative = 0
        for index, count in enumerate(counts.tolist()):
            if not count:
                continue
            if index < len(scale.texts):
                cumulative += count
                shares = [format_share(count, total), format_share(count, valid), format_share(cumulative, valid)]
                lines.append((*scale.format_value(index, self.step.as_labels), count, *shares))
            else:
                reason = scale.reasons[index - len(scale.texts)]
                blank = ("missing", reason) if scale.labels else (f"missing: {reason}",)
                lines.append((*blank, count, format_share(count, total), "", ""))
        everything = ("all", "")[: 1 + bool(scale.labels)]
        lines.append((*everything, total, format_share(total, total) if total else "", "", ""))
        heads = (*scale.list_heads(self.step.as_labels), "cells", "% of all", "% of valid", "cumulative %")
        return Listing(f"{scale.title}{f', {title}' if title else ''}", heads, tuple(lines))

    def list_pairs(self, title: str, counts: Array) -> Listing:
        """List the counts of two variables crossed in a group."""
        down, across = self.scales
        counts = counts[: len(down.texts), : len(across.texts)]
        cells: list[list[object]] = counts.tolist()
        if self.step.percent != "none":
            shares = self.compute_shares(counts[None])[0]
            cells = [
                [f"{count:,} ({share:.1f})" for count, share in zip(*pair, strict=True)]
                for pair in zip(counts.tolist(), shares.tolist(), strict=True)
            ]
        lines: list[tuple[object, ...]] = [
            (" ".join(down.format_value(index, self.step.as_labels)), *cells[index], total)
            for index, total in enumerate(counts.sum(axis=1).tolist())
            if total
        ]
        lines.append(("all", *counts.sum(axis=0).tolist(), int(counts.sum())))
        heads = [" ".join(across.format_value(index, self.step.as_labels)) for index in range(len(across.texts))]
        return Listing(
            f"{down.title} by {across.title}{f', {title}' if title else ''}{PERCENT_TEXTS[self.step.percent]}",
            make_distinct_heads((down.name, *heads, "all")),
            tuple(lines),
            splits=True,
        )


class Scale:
    """The values of one variable, in order, with labels; `values` ends with a cell for each reason.

    Raises DataError if it has too many distinct values.
    """

    def __init__(self, counted: CountedRows, name: str) -> None:
        self.name, column, dictionary = name, counted.table[name].compact(), counted.table.dictionary
        ranks, count = rank_cells(column)
        if count > MOST_VALUES:
            raise DataError(
                f"{name} has more than {MOST_VALUES} distinct values, too many for a tally.",
                todo=f"Recode it into groups first, such as ‹map={name}: 0 to 10=low, others=high›.",
            )
        self.reasons = list(column.reason_counts())
        # Position of each distinct row among the values, and the reasons after them.
        self.positions = ranks
        if column.why is not None:
            order = [self.reasons.index(reason) if reason in self.reasons else -1 for reason in column.reasons]
            self.positions = np.where(column.why == 0, ranks, count + np.array([-1, *order])[column.why])
        self.values = column.take(find_group_starts(self.positions, count + len(self.reasons)))
        self.texts = self.values.to_text().to_pylist()[:count]
        self.label, self.labels = dictionary.of(name).label, dictionary.labels_of(name)

    @property
    def title(self) -> str:
        """Name and label."""
        return f"{self.name} ({self.label})" if self.label else self.name

    def list_heads(self, as_labels: bool) -> tuple[str, ...]:
        """Return the heads of the columns that show the value."""
        return (("label", "code") if as_labels else ("code", "label")) if self.labels else ("value",)

    def format_value(self, index: int, as_labels: bool) -> tuple[str, ...]:
        """Return a value as shown: code and label, or label and code."""
        text = self.texts[index]
        if not self.labels:
            return (text,)
        label = CodeList(self.labels).label_of(text) or "—"
        return (label, text) if as_labels else (text, label)

    def make_notes(self) -> list[Note]:
        """Note values without a label, and unused labels, which reveal a wrong list."""
        if not self.labels:
            return []
        codes = CodeList(self.labels)
        unlabelled = [text for text in self.texts if codes.code_of(text) is None]
        unused = [f"{code} {self.labels[code]}" for code in codes.unused(self.texts)]
        notes = (
            Note(f"values without a label: {shorten_list(unlabelled, 10)}.", self.name, kind="no-label",
                 count=len(unlabelled)),
            Note(f"unused labels: {shorten_list(unused, 10)}.", self.name, kind="unused-label", count=len(unused)),
        )  # fmt: skip
        return [note for note in notes if note.count]


def list_counts(counts: Table) -> list[dict[str, object]]:
    """Return the counts for scripts: values as text, counts and percentages as numbers."""
    columns = {
        name: column.cells() if column.type in ("integer", "number") else column.to_text().to_pylist()
        for name, column in counts.columns.items()
    }
    result = [dict(zip(columns, cells, strict=True)) for cells in zip(*columns.values(), strict=True)]
    for name, column in counts.columns.items():
        for row in np.flatnonzero(column.is_missing).tolist() if name not in NUMBERS else ():
            result[row]["missing"] = column.reason_cells(np.array([row]))[0]
    return result


def divide(numbers: Array, totals: Array) -> Array:
    """Divide, with 0 where there is nothing."""
    return np.divide(numbers, totals, out=np.zeros(numbers.shape), where=np.asarray(totals != 0))


def format_share(count: int, total: int) -> str:
    """Format a percentage with one decimal."""
    return f"{100 * count / total:.1f}"
