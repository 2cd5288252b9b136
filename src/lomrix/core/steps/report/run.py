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
from lomrix.core.rows.candidate_keys import likely_case
from lomrix.core.rows.described import NUMERIC, described
from lomrix.core.rows.grid import Grid, find_unseen_rows
from lomrix.core.rows.keys import grouped
from lomrix.core.rows.occasions import told
from lomrix.core.steps.account import Account, Balance
from lomrix.core.steps.report.content import Content, Drawn, Gap, Line, Node, Point, SeenAt, TellingVariable
from lomrix.core.steps.report.discretion import Discretion, mask_number
from lomrix.core.steps.report.distribution import find_distribution
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
    discretion = Discretion.of(table, step.case, step.min_n)
    with ThreadPoolExecutor(WORKERS) as workers:
        variables = tuple(workers.map(lambda name: describe(table, name, discretion), table.names))
    content = Content(step.title or table.name, len(table), variables, flow_of(table), min_n=step.min_n)
    notes: list[Note] = []
    if step.case:
        content = Seeing(step, table, discretion).into(content, notes)
    elif step.min_n and (case := likely_case(table)):
        text = f"‹min_n› counts rows, and rows repeat within {case}: add ‹case={case}› and ‹occasion› to count cases."
        notes.append(Note(text, case, (), "rows-not-cases", len(table)))
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


def describe(table: Table, name: str, discretion: Discretion) -> TellingVariable:
    """What is told of one column."""
    column = table[name]
    found = described(name, column, table.dictionary.of(name), table.dictionary.labels_of(name))
    return discretion.describe(found, column, find_distribution(column, found, discretion.min_n, discretion.cases))


# --------------------------------------------------------------- who and when


class Seeing:
    """Cases and occasions of a table."""

    def __init__(self, step: Report, table: Table, discretion: Discretion) -> None:
        self.step = step
        gone = np.zeros(len(table), np.bool_)
        for name in (*step.case, *step.occasion):
            gone |= table[name].is_missing
        self.left_out = int(np.count_nonzero(gone))
        self.table = table.take(np.flatnonzero(~gone)) if self.left_out else table
        self.discretion = discretion.take(np.flatnonzero(~gone))
        self.grid = Grid(self.table, step.case, step.occasion)
        self.unseen = find_unseen_rows(self.table, step.case, step.occasion)
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
        notes += self.grid.order_notes
        seen, cases = self.seen()
        return replace(
            content, case=", ".join(self.step.case), occasion=", ".join(self.step.occasion),
            cases=cases, seen=seen, gaps=self.gaps(content), drawn=self.drawn(notes),
        )  # fmt: skip

    def seen(self) -> tuple[tuple[SeenAt, ...], int | None]:
        """At each occasion: seen, new, back after a gap, and seen before but not now; and the number of all cases."""
        taken = np.zeros(self.grid.size, np.bool_)
        taken[self.grid.cells[~self.unseen]] = True
        seen = taken.reshape(len(self.grid.cases), self.grid.times)
        numbers = np.zeros((4, self.grid.times), np.int64)
        before = np.zeros(len(seen), np.bool_)
        last = np.zeros(len(seen), np.bool_)
        for at in range(self.grid.times):
            now = seen[:, at]
            numbers[:, at] = [
                np.count_nonzero(one) for one in (now, now & ~before, now & before & ~last, before & ~now)
            ]
            before, last = before | now, now
        cases = int(np.count_nonzero(before))
        small = (numbers > 0) & (numbers < self.step.min_n)
        hidden = self.discretion.hide_over_time(
            numbers, np.column_stack([small, np.full(4, 0 < cases < self.step.min_n)])
        )
        masks = hidden[:-1].reshape(numbers.shape)
        shown = (
            SeenAt(occasion, *(mask_number(int(n), gone) for n, gone in zip(numbers[:, at], masks[:, at], strict=True)))
            for at, occasion in enumerate(self.occasions)
        )
        return tuple(shown), mask_number(cases, hidden[-1])

    def gaps(self, content: Content) -> tuple[Gap, ...]:
        """The share of missing cells of each variable at each occasion, and of each reason where it has several."""
        rows = np.bincount(self.at, minlength=self.grid.times)
        made = []
        for one in content.variables:
            name = one.described.name
            column = self.table[name]
            if column.why is None or not column.missing_count:
                continue
            reasons = list(column.reason_counts())
            kinds = [~column.is_missing, *(column.why == column.reasons.index(reason) + 1 for reason in reasons)]
            cells = np.array([np.where(kind, self.at, -1) for kind in kinds])
            counts = np.array([np.bincount(own[own >= 0], minlength=self.grid.times) for own in cells])
            hidden = np.zeros(counts.shape, np.bool_)
            if self.step.min_n:
                small = np.array([self.discretion.too_few(own, self.grid.times) for own in cells])
                # Rows without case or occasion stand in the totals elsewhere, and not here.
                totals = [one.present is None, *(one.missing.get(reason) is None for reason in reasons)]
                hidden = self.discretion.hide_gaps(counts, small, np.array(totals) | bool(self.left_out))
                hidden |= self.discretion.too_few(self.at, self.grid.times)
            made.append(Gap(name, "", shares(counts[1:].sum(axis=0), rows, hidden[0])))
            if len(reasons) > 1:
                parts = zip(reasons, counts[1:], hidden[1:], strict=True)
                made += [Gap(name, reason, shares(own, rows, gone)) for reason, own, gone in parts]
        return tuple(made)

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
        few = self.discretion.too_few(np.where(rows, self.at, -1), self.grid.times)
        made = []
        for occasion, number, mean, half, gone in zip(
            self.occasions, values.sizes.tolist(), values.mean.tolist(), values.half_interval.tolist(), few.tolist(),
            strict=True,
        ):  # fmt: skip
            n = None if self.step.min_n and number else number  # those of all groups but one would tell the last one
            if gone or not number:
                made.append(Point(occasion, n, None, None, None))
            elif not np.isfinite(half):
                made.append(Point(occasion, n, mean, None, None))
            else:
                made.append(Point(occasion, n, mean, mean - half, mean + half))
        return tuple(made)


def shares(
    parts: npt.NDArray[np.int64], rows: npt.NDArray[np.int64], hidden: npt.NDArray[np.bool_]
) -> tuple[float | None, ...]:
    """The share of some cells among the rows of each occasion; None where it must not be shown."""
    return tuple(
        None if gone or not count else part / count
        for part, count, gone in zip(parts.tolist(), rows.tolist(), hidden.tolist(), strict=True)
    )


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
