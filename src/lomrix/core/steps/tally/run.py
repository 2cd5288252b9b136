"""Labelled counts and per cents of one variable, or of two crossed; valid and missing apart."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import Groups, grouped, ordered_ranks
from lomrix.core.steps.account import Account, Balance, Listing, distinct_heads
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.wording import some_of

MOST_VALUES = 200
MOST_COLUMNS = 40
NUMBERS = ("cells", "percent", "valid_percent")


def tallied(step: Tally, tables: Inputs, wanted: Collection[str]) -> Result:
    """Count; the result's table has one row for each value, or for each pair of values."""
    work = Counting(step)
    table = tables.one()
    scales = [Scale.of(table, name) for name in step.variables]
    groups = grouped(table, step.by) if step.by else None
    listings: list[Listing] = []
    rows: list[Any] = []
    for at in range(groups.count if groups is not None else 1):
        inside = groups.codes == at if groups is not None else np.ones(len(table), np.bool_)
        title = ""
        if groups is not None:
            told = [(name, column.to_text()[at].as_py()) for name, column in groups.values.items()]
            title = ", ".join(f"{name} {work.label(table, name, text)}" for name, text in told)
        listings += (work.one if len(scales) == 1 else work.two)(scales, inside, title, rows, at)
    made = work.table(scales, groups.values if groups is not None else {}, rows, table.dictionary)
    account = work.account(table, made, scales, groups, listings)
    entry = table.dictionary.of(step.variables[0])
    present = np.logical_and.reduce([~made[scale.name].is_missing for scale in scales])
    figure = Bars(made.take(np.flatnonzero(present)), step.variables, step.by, entry.label or step.variables[0])
    return Result(made, account, {"figure": figure} if "figure" in wanted else {})


@dataclass(frozen=True)
class Bars:
    """Counts to be drawn as bars.

    Parameters
    ----------
    counts
        One row for each value, or each pair of values, and group.
    variables, by
        What was counted, and for which groups apart.
    title
        What the figure is called.
    """

    counts: Table
    variables: tuple[str, ...]
    by: tuple[str, ...]
    title: str

    @property
    def is_empty(self) -> bool:
        """True where nothing was counted."""
        return not len(self.counts)


@dataclass(frozen=True)
class Counting:
    """One tally at work."""

    step: Tally

    @staticmethod
    def label(table: Table, name: str, text: str | None) -> str:
        """The label of a group's value, else the value."""
        return CodeList(table.dictionary.labels_of(name)).label_of(text or "") or text or "—"

    # ---------------------------------------------------------------- counting

    def one(self, scales: list[Scale], inside: Array, title: str, rows: list[Any], group: int) -> list[Listing]:
        """Count one variable."""
        (scale,) = scales
        counts = scale.counts(inside)
        total, valid = int(np.count_nonzero(inside)), int(counts.sum())
        lines: list[tuple[object, ...]] = []
        running = 0
        for at in range(len(scale.texts)):
            if not counts[at]:
                continue
            running += int(counts[at])
            share = 100 * counts[at] / total, 100 * counts[at] / valid
            lines.append(
                (*scale.shown(at, self.step.as_labels), int(counts[at]), *map(percent, (*share, 100 * running / valid)))
            )
            rows.append((group, (at,), int(counts[at]), *share))
        for reason, count in scale.column.take(np.flatnonzero(inside)).reason_counts().items():
            place = len(scale.texts) + scale.reasons.index(reason)
            rows.append((group, (place,), count, 100 * count / total, np.nan))
            blank = ("missing", reason) if scale.labels else (f"missing: {reason}",)
            lines.append((*blank, count, percent(100 * count / total), "", ""))
        lines.append((*("all", "")[: 1 + bool(scale.labels)], total, percent(100.0) if total else "", "", ""))
        heads = (*scale.heads(self.step.as_labels), "cells", "% of all", "% of valid", "running %")
        title = f"{scale.title}{f', {title}' if title else ''}"
        return [Listing(title, heads, tuple(lines))]

    def two(self, scales: list[Scale], inside: Array, title: str, rows: list[Any], group: int) -> list[Listing]:
        """Count two variables crossed."""
        down, across = scales
        if len(across.texts) > MOST_COLUMNS:
            raise DataError(
                f"{across.name} has {len(across.texts):,} values, too many for columns.",
                todo="Turn the two variables round, or recode first.",
            )
        both = inside & (down.codes >= 0) & (across.codes >= 0)
        width = len(across.texts)
        counts = np.bincount(down.codes[both] * width + across.codes[both], minlength=len(down.texts) * width)
        counts = counts.reshape(len(down.texts), width)
        whole = {"row": counts.sum(axis=1, keepdims=True), "column": counts.sum(axis=0, keepdims=True)}.get(
            self.step.percent
        )
        lines: list[tuple[object, ...]] = []
        for at in range(len(down.texts)):
            shares = np.zeros(width)
            if whole is not None:
                with np.errstate(invalid="ignore", divide="ignore"):
                    shares = np.nan_to_num(100 * counts[at] / np.broadcast_to(whole, counts.shape)[at])
            rows += [(group, (at, place), int(counts[at, place]), float(shares[place])) for place in range(width)]
            if not counts[at].any():
                continue
            cells: list[Any] = counts[at].tolist()
            if whole is not None:
                cells = [f"{count:,} ({percent(share)})" for count, share in zip(cells, shares, strict=True)]
            lines.append((" ".join(down.shown(at, self.step.as_labels)), *cells, int(counts[at].sum())))
        lines.append(("all", *counts.sum(axis=0).tolist(), int(counts.sum())))
        heads = (down.name, *(" ".join(across.shown(at, self.step.as_labels)) for at in range(width)), "all")
        words = {"none": "", "row": ", per cent of the row", "column": ", per cent of the column"}[self.step.percent]
        return [
            Listing(
                f"{down.title} by {across.title}{f', {title}' if title else ''}{words}",
                distinct_heads(heads),
                tuple(lines),
                splits=True,
            )
        ]

    # ------------------------------------------------------------------ result

    def table(self, scales: list[Scale], groups: dict[str, Column], rows: list[Any], source: Dictionary) -> Table:
        """The counts as a table, with the labels of what was counted and of the groups."""
        at = np.array([row[0] for row in rows], np.int64)
        columns = {name: column.take(at) for name, column in groups.items()}
        dictionary = Dictionary()
        for name in groups:
            if labels := source.labels_of(name):
                dictionary = dictionary.with_codes(name, labels)
                dictionary = dictionary.with_variable(name, Variable(label=source.of(name).label, codes=name))
        for place, scale in enumerate(scales):
            cells = np.array([row[1][place] for row in rows], np.int64)
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

    def account(
        self, table: Table, made: Table, scales: list[Scale], groups: Groups | None, listings: list[Listing]
    ) -> Account:
        """What was counted: the cells of the result, and the rows that are in none."""
        inside = np.ones(len(table), np.bool_) if groups is None else groups.codes >= 0
        balances, rest = [], inside
        parts: list[tuple[str, int]] = []
        for scale in scales:
            for reason, count in scale.column.take(np.flatnonzero(rest)).reason_counts().items():
                parts.append((f"{scale.name} missing ({reason})", count))
            rest = rest & ~scale.column.is_missing
        outside = int(np.count_nonzero(~inside))
        present = np.logical_and.reduce([~made[scale.name].is_missing for scale in scales])
        parts = [
            ("counted", int(made["cells"].values[present].sum())),
            *parts,
            *([("in no group", outside)] if outside else []),
        ]
        balances.append(Balance(f"rows of {table.name}", len(table), tuple(parts)))
        names = " by ".join(scale.name for scale in scales)
        notes = tuple(note for scale in scales for note in scale.notes())
        return Account(
            "tally",
            f"{names}: {counted(len(table), 'row', 'rows')}.",
            tuple(balances),
            {"variables": list(self.step.variables), "counts": counts_as_facts(made)},
            tuple(listings),
            notes,
        )


@dataclass(frozen=True)
class Scale:
    """The values of one variable, in order, with their labels; `values` ends with a cell for each reason."""

    name: str
    label: str
    column: Column
    codes: Array
    values: Column
    texts: list[str]
    reasons: list[str]
    labels: Codes

    @classmethod
    def of(cls, table: Table, name: str) -> Scale:
        """The scale of a column.

        Raises
        ------
        DataError
            Where it has too many values to be counted one by one.
        """
        column = table[name]
        codes, count = ordered_ranks(column)
        if count > MOST_VALUES:
            raise DataError(
                f"{name} has {count:,} different values, too many for a tally.",
                todo=f"Recode it into groups first, such as ‹map={name}: 0 to 10=low, others=high›.",
            )
        first = np.full(count, -1, np.int64)
        rows = np.flatnonzero(codes >= 0)[::-1]
        first[codes[rows]] = rows
        reasons = list(column.reason_counts())
        absent = [int(np.flatnonzero(column.why == column.reasons.index(reason) + 1)[0]) for reason in reasons]
        values = column.take(np.append(first[first >= 0], np.array(absent, np.int64)))
        # A pool may hold texts that no cell has; the last place answers for a missing cell.
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

    def counts(self, inside: Array) -> Array:
        """Cells of each value among some rows."""
        return np.bincount(self.codes[inside & (self.codes >= 0)], minlength=len(self.texts))

    def heads(self, as_labels: bool) -> tuple[str, ...]:
        """Heads of the columns that say the value."""
        return (("label", "code") if as_labels else ("code", "label")) if self.labels else ("value",)

    def shown(self, at: int, as_labels: bool) -> tuple[str, ...]:
        """A value as it is shown: code and label, or label and code."""
        text = self.texts[at]
        if not self.labels:
            return (text,)
        label = CodeList(self.labels).label_of(text) or "—"
        return (label, text) if as_labels else (text, label)

    def notes(self) -> list[Note]:
        """Values without a label, and labels never used: a list put on the wrong variable is seen so."""
        if not self.labels:
            return []
        codes = CodeList(self.labels)
        without = [text for text in self.texts if codes.code_of(text) is None]
        unused = [f"{code} {self.labels[code]}" for code in codes.unused(self.texts)]
        notes = []
        if without:
            notes.append(
                Note(
                    f"values without a label: {some_of(without, 10)}.",
                    self.name,
                    kind="no-label",
                    count=len(without),
                )
            )
        if unused:
            notes.append(
                Note(f"labels never used: {some_of(unused, 10)}.", self.name, kind="unused-label", count=len(unused))
            )
        return notes


def counts_as_facts(made: Table) -> list[dict[str, object]]:
    """The counts for a script: values as text, counts and per cents as numbers."""
    columns = {
        name: column.cells() if column.type in ("integer", "number") else column.to_text().to_pylist()
        for name, column in made.columns.items()
    }
    facts = [dict(zip(columns, cells, strict=True)) for cells in zip(*columns.values(), strict=True)]
    for name, column in made.columns.items():
        for row in np.flatnonzero(column.is_missing).tolist() if name not in NUMBERS else ():
            facts[row]["missing"] = column.reason_cells(np.array([row]))[0]
    return facts


def percent(value: float) -> str:
    """A per cent to one place."""
    return f"{value:.1f}"
