"""Collect the content of a page about a table."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import Values
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.errors import UsageError
from lomrix.core.rows.candidate_keys import guess_case
from lomrix.core.rows.column_survey import NUMERIC, SurveyedTable, TableSurvey, iterate_values
from lomrix.core.rows.described import summarize_variable
from lomrix.core.rows.grid import Grid, find_unseen_rows
from lomrix.core.rows.keys import group_rows
from lomrix.core.rows.occasions import format_occasion_values
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.report.content import (
    Content,
    Gap,
    Line,
    MeasureFigure,
    Node,
    OccasionCounts,
    PageVariable,
    Point,
)
from lomrix.core.steps.report.discretion import Discretion, mask_number
from lomrix.core.steps.report.distribution import find_distribution
from lomrix.core.steps.report.settings import Report
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import describe_codes
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table

MOST_LINES = 12
MOST_OCCASIONS = 60
# Distances of larger numbers are beyond the range.
LARGEST_DRAWN = 1e300


def survey(step: Report, tables: Inputs) -> TableSurvey:
    """Survey each column."""
    return TableSurvey.of(tables.get_one(), with_sums=True)


def report(step: Report, tables: Inputs, wanted: Collection[str], whole: TableSurvey | None = None) -> Result:
    """Return the content of the page as the extra `prepared`."""
    table = tables.get_one()
    known = SurveyedTable(table, survey(step, tables) if whole is None else whole, step.cell_size)
    discretion = Discretion.for_table(table, step.case, step.min_n)
    variables = tuple(map_in_threads(lambda name: describe_column(known, name, discretion), table.names, most=2))
    content = Content(step.title or table.name, len(table), variables, make_flow(table), min_n=step.min_n)
    notes = [] if step.min_n else list(note_codes(known))
    if step.case:
        content = CaseReport(step, table, discretion).add_to(content, notes)
    elif step.min_n and (case := guess_case(table, (), known.rows_at_once, known.count_distinct)):
        text = f"‹min_n› counts rows, and rows repeat within {case}: add ‹case={case}› and ‹occasion› to count cases."
        notes.append(Note(text, case, (), "rows-not-cases", len(table)))
    account = make_account(table, content, notes)
    return Result(table, account, {"prepared": [content]})


def note_codes(known: SurveyedTable) -> Iterator[Note]:
    """Note numbers that look like missing codes."""
    for name, column in known.table.columns.items():
        if codes := known.guess_codes(name):
            cells = sum(int(np.isin(values, codes).sum()) for values in iterate_values(column))
            yield Note(describe_codes(codes), name, (), "missing-code", cells)


def make_account(table: Table, content: Content, notes: list[Note]) -> Account:
    """Report what the page contains."""
    cells = len(table) * len(table.names)
    present = sum(variable.summary.present for variable in content.variables)
    missing = sum(sum(variable.summary.missing.values()) for variable in content.variables)
    summary = f"{pluralize(len(content.variables), 'variable')} of {pluralize(len(table), 'row')}"
    if content.seen:
        summary += f", {len(content.seen)} occasions"
    return Account(
        "report",
        f"{summary}, {pluralize(len(content.flow), 'box', 'boxes')} in the flow.",
        (Balance("cells", cells, (Part("kept", present, "present"), Part("missing", missing))),),
        {"variables": len(content.variables), "occasions": [variable.occasion for variable in content.seen]},
        notes=tuple(notes),
    )


# ------------------------------------------------------------------ variables


def describe_column(known: SurveyedTable, name: str, discretion: Discretion) -> PageVariable:
    """Describe one column for the page."""
    table, column = known.table, known.table[name]
    entry, labels = table.dictionary.of(name), table.dictionary.labels_of(name)
    summary = summarize_variable(name, column, entry, labels, known.survey.columns[name])
    return discretion.describe(summary, column, find_distribution(known, summary, discretion.min_n, discretion.cases))


# --------------------------------------------------------------- who and when


class CaseReport:
    """Cases and occasions of a table."""

    def __init__(self, step: Report, table: Table, discretion: Discretion) -> None:
        self.step = step
        is_missing = np.zeros(len(table), np.bool_)
        for name in (*step.case, *step.occasion):
            is_missing |= table[name].is_missing
        self.left_out = int(np.count_nonzero(is_missing))
        self.table = table.take(np.flatnonzero(~is_missing)) if self.left_out else table
        self.discretion = discretion.take(np.flatnonzero(~is_missing))
        self.grid = Grid(self.table, step.case, step.occasion)
        self.unseen = find_unseen_rows(self.table, step.case, step.occasion)
        labels = {name: table.dictionary.labels_of(name) for name in step.occasion}
        self.occasions = [
            ", ".join(format_occasion_values(step.occasion, occasion, labels)) for occasion in self.grid.occasions
        ]
        if len(self.occasions) > MOST_OCCASIONS:
            raise UsageError(
                f"{len(self.occasions):,} occasions are too many for one page.",
                todo='Name an occasion of fewer values, such as the month: derive "month = month(day)".',
            )
        self.occasion_of_row = self.grid.cells % max(self.grid.times, 1)

    def add_to(self, content: Content, notes: list[Note]) -> Content:
        """Add what is known of cases and occasions to the content."""
        if self.left_out:
            text = f"{pluralize(self.left_out, 'row has', 'rows have')} no case or no occasion, so not counted in "
            notes.append(Note(text + "who was seen when.", kind="no-occasion", count=self.left_out))
        notes += self.grid.order_notes
        if repeated := len(self.grid.repeated):
            text = f"{repeated:,} rows share case and occasion with another one; "
            text += "a further occasion may tell them apart."
            notes.append(Note(text, ", ".join(self.step.occasion), kind="repeated", count=repeated))
        seen, cases = self.count_seen()
        return replace(
            content, case=", ".join(self.step.case), occasion=", ".join(self.step.occasion),
            cases=cases, seen=seen, gaps=self.find_gaps(content), drawn=self.make_figures(notes),
        )  # fmt: skip

    def count_seen(self) -> tuple[tuple[OccasionCounts, ...], int | None]:
        """Count at each occasion: seen, new, back after a gap, and seen before but not now; and all cases."""
        occupied = np.zeros(self.grid.size, np.bool_)
        occupied[self.grid.cells[~self.unseen]] = True
        seen = occupied.reshape(len(self.grid.cases), self.grid.times)
        numbers = np.zeros((4, self.grid.times), np.int64)
        before = np.zeros(len(seen), np.bool_)
        last = np.zeros(len(seen), np.bool_)
        for index in range(self.grid.times):
            is_seen = seen[:, index]
            numbers[:, index] = [
                np.count_nonzero(mask)
                for mask in (is_seen, is_seen & ~before, is_seen & before & ~last, before & ~is_seen)
            ]
            before, last = before | is_seen, is_seen
        cases = int(np.count_nonzero(before))
        small = (numbers > 0) & (numbers < self.step.min_n)
        hidden = self.discretion.hide_over_time(
            numbers, np.column_stack([small, np.full(4, 0 < cases < self.step.min_n)])
        )
        masks = hidden[:-1].reshape(numbers.shape)
        shown = (
            OccasionCounts(
                occasion,
                *(
                    mask_number(int(n), is_hidden)
                    for n, is_hidden in zip(numbers[:, index], masks[:, index], strict=True)
                ),
            )
            for index, occasion in enumerate(self.occasions)
        )
        return tuple(shown), mask_number(cases, hidden[-1])

    def find_gaps(self, content: Content) -> tuple[Gap, ...]:
        """Return the share of missing cells of each variable at each occasion, and of each of several reasons."""
        rows = np.bincount(self.occasion_of_row, minlength=self.grid.times)
        result = []
        for variable in content.variables:
            name = variable.summary.name
            column = self.table[name]
            if column.why is None or not column.missing_count:
                continue
            reasons = list(column.reason_counts())
            kinds = [~column.is_missing, *(column.why == column.reasons.index(reason) + 1 for reason in reasons)]
            cells = np.array([np.where(kind, self.occasion_of_row, -1) for kind in kinds])
            counts = np.array(
                [np.bincount(counts_there[counts_there >= 0], minlength=self.grid.times) for counts_there in cells]
            )
            hidden = np.zeros(counts.shape, np.bool_)
            if self.step.min_n:
                small = np.array([self.discretion.find_small(counts_there, self.grid.times) for counts_there in cells])
                # Rows without case or occasion are in the totals elsewhere, but not here.
                totals = [variable.present is None, *(variable.missing.get(reason) is None for reason in reasons)]
                hidden = self.discretion.hide_gaps(counts, small, np.array(totals) | bool(self.left_out))
                hidden |= self.discretion.find_small(self.occasion_of_row, self.grid.times)
            result.append(Gap(name, "", compute_shares(counts[1:].sum(axis=0), rows, hidden[0])))
            if len(reasons) > 1:
                parts = zip(reasons, counts[1:], hidden[1:], strict=True)
                result += [
                    Gap(name, reason, compute_shares(counts_there, rows, is_hidden))
                    for reason, counts_there, is_hidden in parts
                ]
        return tuple(result)

    def make_figures(self, notes: list[Note]) -> tuple[MeasureFigure, ...]:
        """Return the means of the measures over the occasions, by group."""
        if not self.step.measure:
            return ()
        names = choose_columns(self.step.measure, self.table.types(), self.table.name)
        groups, labels = self.find_groups()
        if len(labels) > MOST_LINES:
            notes.append(Note(f"{len(labels)} groups; the first {MOST_LINES} are drawn.", kind="many-groups"))
        result = []
        for name in names:
            column = self.table[name]
            if column.type not in NUMERIC:
                raise UsageError(
                    f"{name} is not numeric, so it has no means to draw.",
                    todo="Leave it out of ‹measure›.",
                    columns=[name],
                )
            entry = self.table.dictionary.of(name)
            lines = tuple(
                Line(label, self.compute_points(column, groups == index))
                for index, label in enumerate(labels[:MOST_LINES])
            )
            result.append(MeasureFigure(name, entry.label, entry.unit, lines))
        return tuple(result)

    def find_groups(self) -> tuple[npt.NDArray[np.int64], list[str]]:
        """Return each row's group (-1: missing), and the names of the groups."""
        if not self.step.by:
            return np.zeros(len(self.table), np.int64), [""]
        groups_found = group_rows(self.table, self.step.by)
        parts = []
        for name in self.step.by:
            labels = self.table.dictionary.labels_of(name)
            parts.append([labels.get(text, text) for text in groups_found.values[name].to_text().to_pylist()])
        return groups_found.codes, [", ".join(texts) for texts in zip(*parts, strict=True)]

    def compute_points(self, column: Column, rows: npt.NDArray[np.bool_]) -> tuple[Point, ...]:
        """Return means with their intervals at each occasion."""
        rows = rows & ~column.is_missing
        values = Values(self.occasion_of_row[rows], column.values[rows], self.grid.times)
        is_small = self.discretion.find_small(np.where(rows, self.occasion_of_row, -1), self.grid.times)
        result = []
        for occasion, number, mean, half_width, is_hidden in zip(
            self.occasions, values.sizes.tolist(), values.mean.tolist(), values.half_interval.tolist(),
            is_small.tolist(), strict=True,
        ):  # fmt: skip
            n = None if self.step.min_n and number else number  # those of all groups but one would reveal the last one
            if is_hidden or not number or abs(mean) > LARGEST_DRAWN:
                result.append(Point(occasion, n, None, None, None))
            elif not np.isfinite(half_width):
                result.append(Point(occasion, n, mean, None, None))
            else:
                result.append(Point(occasion, n, mean, mean - half_width, mean + half_width))
        return tuple(result)


def compute_shares(
    parts: npt.NDArray[np.int64], rows: npt.NDArray[np.int64], hidden: npt.NDArray[np.bool_]
) -> tuple[float | None, ...]:
    """Return the share of some cells among the rows of each occasion; None if hidden."""
    return tuple(
        None if is_hidden or not count else part / count
        for part, count, is_hidden in zip(parts.tolist(), rows.tolist(), hidden.tolist(), strict=True)
    )


# ------------------------------------------------------------------------ flow


def make_flow(table: Table) -> tuple[Node, ...]:
    """Return where a table came from, by its history."""
    tasks = table.history.tasks
    nodes: dict[str, Node] = {}
    # A table that was never in a file is named after its step.
    names = {
        str(source["task"]): str(source["step"])
        for entry in tasks.values()
        for source in list_inputs(entry)
        if "task" in source and "step" in source
    }
    for task_id, entry in tasks.items():
        needed = []
        for source in list_inputs(entry):
            if source.get("role") == "dictionary":
                continue
            if source.get("task") in tasks:
                needed.append(str(source["task"]))
                continue
            name = str(source.get("path", "")).rpartition("/")[2]
            rows = source.get("rows")
            key = f"file {source.get('path')} {source.get('hash')}"
            nodes[key] = Node(key, name, "", rows if isinstance(rows, int) else None, "")
            needed.append(key)
        outputs = entry.get("outputs")
        outputs_listed = [source for source in outputs if isinstance(source, dict)] if isinstance(outputs, list) else []
        title = next((str(source.get("path", "")) for source in outputs_listed if source.get("role") == "out"), "")
        rows = entry.get("rows")
        name = title.rpartition("/")[2] or names.get(task_id, "")
        does, summary = str(entry.get("do", "")), str(entry.get("summary", ""))
        rows = rows if isinstance(rows, int) else None
        nodes[task_id] = Node(task_id, name, does, rows, summary, tuple(dict.fromkeys(needed)))
    return tuple(nodes.values())


def list_inputs(entry: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Return the inputs of a task, as far as its history records them."""
    inputs = entry.get("inputs")
    return [source for source in inputs if isinstance(source, dict)] if isinstance(inputs, list) else []
