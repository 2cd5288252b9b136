"""Gather what a page tells of a table."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import Values
from lomrix.core.errors import UsageError
from lomrix.core.rows.described import NUMERIC, DescribedVariable, described
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.keys import grouped
from lomrix.core.rows.occasions import told
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.report.content import Bar, Content, Drawn, Gap, Line, Node, Point, SeenAt, TellingVariable
from lomrix.core.steps.report.distribution import bars_of
from lomrix.core.steps.report.settings import Report
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table

MOST_LINES = 12
MOST_OCCASIONS = 60
WORKERS = 2


def reported(step: Report, tables: Inputs, wanted: Collection[str]) -> Result:
    """What the page tells, as the extra `prepared`."""
    table = tables.one()
    with ThreadPoolExecutor(WORKERS) as workers:
        variables = tuple(workers.map(lambda name: telling(table, name, step.min_n), table.names))
    content = Content(step.title or table.name, len(table), variables, flow_of(table), min_n=step.min_n)
    notes: list[Note] = []
    if step.case:
        content = Seeing(step, table).into(content, notes)
    account = account_of(table, content, notes)
    return Result(table, account, {"prepared": [content]})


def account_of(table: Table, content: Content, notes: list[Note]) -> Account:
    """What the page holds."""
    cells = len(table) * len(table.names)
    present = sum(one.described.present for one in content.variables)
    missing = sum(sum(one.described.missing.values()) for one in content.variables)
    summary = f"{counted(len(content.variables), 'variable', 'variables')} of {counted(len(table), 'row', 'rows')}"
    if content.seen:
        summary += f", {len(content.seen)} occasions"
    return Account(
        "report",
        f"{summary}, {len(content.flow)} boxes in the flow.",
        (Balance("cells", cells, (("with a value", present), ("missing", missing))),),
        {"variables": len(content.variables), "occasions": [one.occasion for one in content.seen]},
        notes=tuple(notes),
    )


# ------------------------------------------------------------------ variables


def telling(table: Table, name: str, min_n: int) -> TellingVariable:
    """One variable with its distribution, small counts left out."""
    column, entry = table[name], table.dictionary.of(name)
    found = described(name, column, entry, table.dictionary.labels_of(name))
    bars, more = bars_of(column, found, min_n)
    shown = [Bar(bar.label, hidden(bar.cells, min_n)) for bar in bars]
    if not any(one.label for one in found.categories) and column.type in ("string", "boolean"):
        # A value whose count is held back may be a person's.
        kept = [bar for bar in shown if bar.cells is not None]
        more, shown = more + len(shown) - len(kept), kept
    missing = {reason: hidden(count, min_n) for reason, count in found.missing.items()}
    return TellingVariable(discreet(found, min_n), tuple(shown), more, missing)


def hidden(count: int | None, min_n: int) -> int | None:
    """A count, or None where it is too small to be shown; nobody is no group."""
    return None if count is not None and 0 < count < min_n else count


def discreet(found: DescribedVariable, min_n: int) -> DescribedVariable:
    """A variable without what speaks of single people: its ends where counts are held back, moments of too few."""
    if not min_n:
        return found
    few = found.present < min_n
    return replace(
        found, smallest="", largest="",
        mean=None if few else found.mean, deviation=None if few else found.deviation,
        median=None if few else found.median,
    )  # fmt: skip


# --------------------------------------------------------------- who and when


class Seeing:
    """Cases and occasions of a table."""

    def __init__(self, step: Report, table: Table) -> None:
        self.step = step
        gone = np.zeros(len(table), np.bool_)
        for name in (*step.case, *step.occasion):
            gone |= table[name].is_missing
        self.left_out = int(np.count_nonzero(gone))
        self.table = table.take(np.flatnonzero(~gone)) if self.left_out else table
        self.grid = Grid(self.table, step.case, step.occasion)
        labels = {name: table.dictionary.labels_of(name) for name in step.occasion}
        first = f"{step.occasion[0]} " if len(step.occasion) == 1 else ""
        self.occasions = [told(step.occasion, one, labels).removeprefix(first) for one in self.grid.occasions]
        if len(self.occasions) > MOST_OCCASIONS:
            raise UsageError(
                f"{len(self.occasions):,} occasions are too many for a page.",
                todo='Name an occasion of fewer values, such as the month: derive "month = month(day)".',
            )
        self.at = self.grid.cells % max(self.grid.times, 1)

    def into(self, content: Content, notes: list[Note]) -> Content:
        """The page with what is known of cases and occasions."""
        if self.left_out:
            text = f"{counted(self.left_out, 'row has', 'rows have')} no case or no occasion: not counted in who was "
            notes.append(Note(text + "seen when.", kind="no-occasion", count=self.left_out))
        cases = len(self.grid.cases)
        return replace(
            content, case=", ".join(self.step.case), occasion=", ".join(self.step.occasion),
            cases=hidden(cases, content.min_n), seen=self.seen(), gaps=self.gaps(), drawn=self.drawn(notes),
        )  # fmt: skip

    def seen(self) -> tuple[SeenAt, ...]:
        """At each occasion: seen, new, back after a gap, and seen before but not now."""
        seen = self.grid.seen
        made = []
        before = np.zeros(len(seen), np.bool_)
        last = np.zeros(len(seen), np.bool_)
        for at, occasion in enumerate(self.occasions):
            now = seen[:, at]
            numbers = (now, now & ~before, now & before & ~last, before & ~now)
            counts = (hidden(int(np.count_nonzero(one)), self.step.min_n) for one in numbers)
            made.append(SeenAt(occasion, *counts))
            before, last = before | now, now
        return tuple(made)

    def gaps(self) -> tuple[Gap, ...]:
        """The share of missing cells of each variable at each occasion, and of each reason where it has several."""
        rows = np.bincount(self.at, minlength=self.grid.times)
        made = []
        for name, column in self.table.columns.items():
            if column.why is None or not column.missing_count:
                continue
            reasons = list(column.reason_counts())
            made.append(Gap(name, "", self.shares(column.is_missing, rows)))
            made += [
                Gap(name, reason, self.shares(column.why == column.reasons.index(reason) + 1, rows))
                for reason in (reasons if len(reasons) > 1 else [])
            ]
        return tuple(made)

    def shares(self, gone: npt.NDArray[np.bool_], rows: npt.NDArray[np.int64]) -> tuple[float | None, ...]:
        """The share of some cells among the rows of each occasion; None where either are too few to be shown."""
        found = np.bincount(self.at[gone], minlength=self.grid.times)
        return tuple(
            None if not count or hidden(count, self.step.min_n) is None or hidden(part, self.step.min_n) is None
            else part / count
            for part, count in zip(found.tolist(), rows.tolist(), strict=True)
        )  # fmt: skip

    def drawn(self, notes: list[Note]) -> tuple[Drawn, ...]:
        """The means of the measures over the occasions, group by group."""
        if not self.step.measure:
            return ()
        names = chosen_columns(self.step.measure, self.table.types(), self.table.name)
        groups, labels = self.groups()
        if len(labels) > MOST_LINES:
            notes.append(Note(f"{len(labels)} groups; the first {MOST_LINES} are drawn.", kind="many-groups"))
        made = []
        for name in names:
            column = self.table[name]
            if column.type not in NUMERIC:
                raise UsageError(
                    f"{name} holds no numbers, whose means could be drawn.", todo="Leave it out of ‹measure›."
                )
            entry = self.table.dictionary.of(name)
            lines = tuple(
                Line(label, self.points(column, groups == at)) for at, label in enumerate(labels[:MOST_LINES])
            )
            made.append(Drawn(name, entry.label, entry.unit, lines))
        return tuple(made)

    def groups(self) -> tuple[npt.NDArray[np.int64], list[str]]:
        """Each row's group (-1: missing), and what the groups are called."""
        if not self.step.by:
            return np.zeros(len(self.table), np.int64), [""]
        found = grouped(self.table, self.step.by)
        parts = []
        for name in self.step.by:
            labels = self.table.dictionary.labels_of(name)
            parts.append([labels.get(text, text) for text in found.values[name].to_text().to_pylist()])
        return found.codes, [", ".join(one) for one in zip(*parts, strict=True)]

    def points(self, column: Column, rows: npt.NDArray[np.bool_]) -> tuple[Point, ...]:
        """Means with their intervals at each occasion."""
        rows = rows & ~column.is_missing
        values = Values(self.at[rows], column.values[rows], self.grid.times)
        made = []
        for occasion, n, mean, half in zip(
            self.occasions, values.sizes.tolist(), values.mean.tolist(), values.half_interval.tolist(), strict=True
        ):
            if n < max(self.step.min_n, 1):
                made.append(Point(occasion, None if n else 0, None, None, None))
            elif not np.isfinite(half):
                made.append(Point(occasion, n, mean, None, None))
            else:
                made.append(Point(occasion, n, mean, mean - half, mean + half))
        return tuple(made)


# ------------------------------------------------------------------------ flow


def flow_of(table: Table) -> tuple[Node, ...]:
    """How a table came about, from its history."""
    tasks = table.history.tasks
    nodes: dict[str, Node] = {}
    # A table that stood in no file is called as its step was.
    names = {
        str(one["task"]): str(one["step"])
        for entry in tasks.values()
        for one in inputs_of(entry)
        if "task" in one and "step" in one
    }
    for number, entry in tasks.items():
        needs = []
        for one in inputs_of(entry):
            if one.get("role") == "dictionary":
                continue
            if one.get("task") in tasks:
                needs.append(str(one["task"]))
                continue
            name = str(one.get("path", "")).rpartition("/")[2]
            rows = one.get("rows")
            key = f"file {one.get('path')} {one.get('hash')}"
            nodes[key] = Node(key, name, "", rows if isinstance(rows, int) else None, "")
            needs.append(key)
        outputs = entry.get("outputs")
        made = [one for one in outputs if isinstance(one, dict)] if isinstance(outputs, list) else []
        title = next((str(one.get("path", "")) for one in made if one.get("role") == "out"), "")
        rows = entry.get("rows")
        name = title.rpartition("/")[2] or names.get(number, "")
        does, summary = str(entry.get("do", "")), str(entry.get("summary", ""))
        rows = rows if isinstance(rows, int) else None
        nodes[number] = Node(number, name, does, rows, summary, tuple(dict.fromkeys(needs)))
    return tuple(nodes.values())


def inputs_of(entry: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What went into a task, as far as its history tells."""
    found = entry.get("inputs")
    return [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []
