"""Labelled counts and percentages of one variable, or of two crossed; missing cells separately."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import Groups, group_rows, rank_cells
from lomrix.core.steps.account import Account, Balance, Listing, Part, make_distinct_heads
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.wording import shorten_list

MOST_VALUES = 200
MOST_COLUMNS = 40
NUMBERS = ("cells", "percent", "valid_percent")


def tally(step: Tally, tables: Inputs, wanted: Collection[str]) -> Result:
    """Count; the result has one row for each value, or for each pair of values."""
    counting = Counting(step)
    table = tables.get_one()
    scales = [TallyScale.from_column(table, name) for name in step.variables]
    groups = group_rows(table, step.by) if step.by else None
    listings: list[Listing] = []
    rows: list[Any] = []
    for group in range(groups.count if groups is not None else 1):
        inside = groups.codes == group if groups is not None else np.ones(len(table), np.bool_)
        title = ""
        if groups is not None:
            group_texts = [(name, column.to_text()[group].as_py()) for name, column in groups.values.items()]
            title = ", ".join(f"{name} {counting.format_group(table, name, text)}" for name, text in group_texts)
        listings += (counting.count_one if len(scales) == 1 else counting.count_two)(scales, inside, title, rows, group)
    result = counting.make_table(scales, groups.values if groups is not None else {}, rows, table.dictionary)
    account = counting.make_account(table, result, scales, groups, listings)
    entry = table.dictionary.of(step.variables[0])
    present = np.logical_and.reduce([~result[scale.name].is_missing for scale in scales])
    figure = BarFigure(result.take(np.flatnonzero(present)), step.variables, step.by, entry.label or step.variables[0])
    return Result(result, account, {"figure": figure} if "figure" in wanted else {})


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


@dataclass(frozen=True)
class Counting:
    """One tally."""

    step: Tally

    @staticmethod
    def format_group(table: Table, name: str, text: str | None) -> str:
        """Return the label of a group's value, else the value."""
        return CodeList(table.dictionary.labels_of(name)).label_of(text or "") or text or "—"

    # ---------------------------------------------------------------- counting

    def count_one(
        self, scales: list[TallyScale], inside: Array, title: str, rows: list[Any], group: int
    ) -> list[Listing]:
        """Count one variable."""
        (scale,) = scales
        counts = scale.count(inside)
        total, valid = int(np.count_nonzero(inside)), int(counts.sum())
        lines: list[tuple[object, ...]] = []
        cumulative = 0
        for index in range(len(scale.texts)):
            if not counts[index]:
                continue
            cumulative += int(counts[index])
            share = 100 * counts[index] / total, 100 * counts[index] / valid
            lines.append(
                (
                    *scale.format_value(index, self.step.as_labels),
                    int(counts[index]),
                    *map(format_percent, (*share, 100 * cumulative / valid)),
                )
            )
            rows.append((group, (index,), int(counts[index]), *share))
        for reason, count in scale.column.take(np.flatnonzero(inside)).reason_counts().items():
            position = len(scale.texts) + scale.reasons.index(reason)
            rows.append((group, (position,), count, 100 * count / total, np.nan))
            blank = ("missing", reason) if scale.labels else (f"missing: {reason}",)
            lines.append((*blank, count, format_percent(100 * count / total), "", ""))
        lines.append((*("all", "")[: 1 + bool(scale.labels)], total, format_percent(100.0) if total else "", "", ""))
        heads = (*scale.list_heads(self.step.as_labels), "cells", "% of all", "% of valid", "cumulative %")
        title = f"{scale.title}{f', {title}' if title else ''}"
        return [Listing(title, heads, tuple(lines))]

    def count_two(
        self, scales: list[TallyScale], inside: Array, title: str, rows: list[Any], group: int
    ) -> list[Listing]:
        """Count two variables crossed."""
        down, across = scales
        if len(across.texts) > MOST_COLUMNS:
            raise DataError(
                f"{across.name} has {len(across.texts):,} values, too many for columns.",
                todo="Swap the two variables, or recode first.",
            )
        both = inside & (down.codes >= 0) & (across.codes >= 0)
        width = len(across.texts)
        counts = np.bincount(down.codes[both] * width + across.codes[both], minlength=len(down.texts) * width)
        counts = counts.reshape(len(down.texts), width)
        totals = {"row": counts.sum(axis=1, keepdims=True), "column": counts.sum(axis=0, keepdims=True)}.get(
            self.step.percent
        )
        lines: list[tuple[object, ...]] = []
        for index in range(len(down.texts)):
            shares = np.zeros(width)
            if totals is not None:
                with np.errstate(invalid="ignore", divide="ignore"):
                    shares = np.nan_to_num(100 * counts[index] / np.broadcast_to(totals, counts.shape)[index])
            rows += [
                (group, (index, column_index), int(counts[index, column_index]), float(shares[column_index]))
                for column_index in range(width)
            ]
            if not counts[index].any():
                continue
            cells: list[Any] = counts[index].tolist()
            if totals is not None:
                cells = [f"{count:,} ({format_percent(share)})" for count, share in zip(cells, shares, strict=True)]
            lines.append((" ".join(down.format_value(index, self.step.as_labels)), *cells, int(counts[index].sum())))
        lines.append(("all", *counts.sum(axis=0).tolist(), int(counts.sum())))
        heads = (
            down.name,
            *(" ".join(across.format_value(index, self.step.as_labels)) for index in range(width)),
            "all",
        )
        percent_text = {"none": "", "row": ", % of the row", "column": ", % of the column"}[self.step.percent]
        return [
            Listing(
                f"{down.title} by {across.title}{f', {title}' if title else ''}{percent_text}",
                make_distinct_heads(heads),
                tuple(lines),
                splits=True,
            )
        ]

    # ------------------------------------------------------------------ result

    def make_table(
        self, scales: list[TallyScale], groups: dict[str, Column], rows: list[Any], source: Dictionary
    ) -> Table:
        """Return the counts as a table, with labels of values and groups."""
        group = np.array([row[0] for row in rows], np.int64)
        columns = {name: column.take(group) for name, column in groups.items()}
        dictionary = Dictionary()
        for name in groups:
            if labels := source.labels_of(name):
                dictionary = dictionary.with_codes(name, labels)
                dictionary = dictionary.with_variable(name, Variable(label=source.of(name).label, codes=name))
        for index, scale in enumerate(scales):
            cells = np.array([row[1][index] for row in rows], np.int64)
            columns[scale.name] = scale.values.take(cells)
            if scale.labels:
                dictionary = dictionary.with_codes(scale.name, scale.labels)
                dictionary = dictionary.with_variable(scale.name, Variable(label=scale.label, codes=scale.name))
        columns["cells"] = Column.of("integer", np.array([row[2] for row in rows], np.int64))
        if len(scales) == 1 or self.step.percent != "none":
            columns["percent"] = Column.of("number", np.array([row[3] for row in rows], np.float64))
        if len(scales) == 1:
            valid = np.array([row[4] for row in rows], np.float64)
            columns["valid_percent"] = Column.of("number", valid, np.isnan(valid).astype(np.uint8), (UNDEFINED,))
        return Table(columns, dictionary, name="tally")

    def make_account(
        self, table: Table, result: Table, scales: list[TallyScale], groups: Groups | None, listings: list[Listing]
    ) -> Account:
        """Report the counted cells, and the rows not counted."""
        inside = np.ones(len(table), np.bool_) if groups is None else groups.codes >= 0
        balances, remaining = [], inside
        parts: list[Part] = []
        for scale in scales:
            for reason, count in scale.column.take(np.flatnonzero(remaining)).reason_counts().items():
                parts.append(Part("missing", count, "value", scale.name, reason))
            remaining = remaining & ~scale.column.is_missing
        outside = int(np.count_nonzero(~inside))
        present = np.logical_and.reduce([~result[scale.name].is_missing for scale in scales])
        parts = [
            Part("kept", int(result["cells"].values[present].sum()), "counted"),
            *parts,
            Part("unused", outside, "no-group"),
        ]
        balances.append(Balance("rows", len(table), tuple(parts), table.name))
        names = " by ".join(scale.name for scale in scales)
        notes = tuple(note for scale in scales for note in scale.make_notes())
        return Account(
            "tally",
            f"{names}: {pluralize(len(table), 'row')}.",
            tuple(balances),
            {"variables": list(self.step.variables), "counts": list_counts(result)},
            tuple(listings),
            notes,
        )


@dataclass(frozen=True)
class TallyScale:
    """The values of one variable, in order, with labels; `values` ends with a cell for each reason."""

    name: str
    label: str
    column: Column
    codes: Array
    values: Column
    texts: list[str]
    reasons: list[str]
    labels: Codes

    @classmethod
    def from_column(cls, table: Table, name: str) -> TallyScale:
        """Return the scale of a column.

        Raises DataError if it has too many distinct values.
        """
        column = table[name]
        codes, count = rank_cells(column)
        if count > MOST_VALUES:
            raise DataError(
                f"{name} has {count:,} distinct values, too many for a tally.",
                todo=f"Recode it into groups first, such as ‹map={name}: 0 to 10=low, others=high›.",
            )
        first = np.full(count, -1, np.int64)
        rows = np.flatnonzero(codes >= 0)[::-1]
        first[codes[rows]] = rows
        reasons = list(column.reason_counts())
        absent = [int(np.flatnonzero(column.why == column.reasons.index(reason) + 1)[0]) for reason in reasons]
        values = column.take(np.append(first[first >= 0], np.array(absent, np.int64)))
        # A pool may hold unused texts; the last element is for missing cells.
        used = np.append(np.where(first >= 0, np.cumsum(first >= 0) - 1, -1), -1)
        codes = used[codes]
        entry = table.dictionary.of(name)
        return cls(
            name,
            entry.label,
            column,
            codes,
            values,
            values.to_text().to_pylist()[: len(values) - len(reasons)],
            reasons,
            table.dictionary.labels_of(name),
        )

    @property
    def title(self) -> str:
        """Name and label."""
        return f"{self.name} ({self.label})" if self.label else self.name

    def count(self, inside: Array) -> Array:
        """Return the cells of each value among some rows."""
        return np.bincount(self.codes[inside & (self.codes >= 0)], minlength=len(self.texts))

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
        notes = []
        if unlabelled:
            notes.append(
                Note(
                    f"values without a label: {shorten_list(unlabelled, 10)}.",
                    self.name,
                    kind="no-label",
                    count=len(unlabelled),
                )
            )
        if unused:
            notes.append(
                Note(f"unused labels: {shorten_list(unused, 10)}.", self.name, kind="unused-label", count=len(unused))
            )
        return notes


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


def format_percent(value: float) -> str:
    """Format a percentage with one decimal."""
    return f"{value:.1f}"
