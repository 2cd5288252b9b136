"""Who was seen when, from the grid of cases and occasions."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.combining import MOST_EXAMPLES, Combinable, Extreme, Same, Shown, Words, combine_all
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import Cases
from lomrix.core.rows.grid import Grid, GridSurvey, find_balancing_rows, find_unseen_rows
from lomrix.core.rows.keys import format_keys
from lomrix.core.rows.occasions import Occasion, format_occasion_values
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.coverage.account import MOST_MEASURES, Tally
from lomrix.core.steps.coverage.patterns import PatternCounts, Patterns
from lomrix.core.steps.coverage.retention import Retention
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

MOST_CELLS = 2_000_000_000
FirstRows = Mapping[Occasion, Extreme]


@dataclass(frozen=True)
class CoverageSurvey:
    """What must be known of all parts: the first row of each occasion, apart from rows that may only balance a panel;
    of these by the measures that have a value; and in how many cases each measure varies.
    """

    seen: FirstRows
    balancing: Mapping[tuple[str, ...], FirstRows]
    varying: Mapping[str, int]

    def decide(self) -> GridSurvey:
        """Return the occasions at which a case was seen."""
        varies = {measures: any(self.varying[name] for name in measures) for measures in self.balancing}
        found = [self.seen, *(self.balancing[measures] for measures, is_seen in varies.items() if is_seen)]
        return GridSurvey(combine_all(found), 0, 0, Shown([], 0))


def survey(step: Coverage, tables: Inputs) -> CoverageSurvey:
    """Survey a part."""
    rows, _ = choose_complete_rows(step, tables.get_one())
    measures = [name for name in rows.names if name not in (*step.case, *step.occasion)]
    cases = Cases(rows, step.case)
    is_balancing = find_balancing_rows(rows, measures)
    chosen = np.flatnonzero(is_balancing)
    has_value = np.array([~rows[name].is_missing[chosen] for name in measures], np.bool_).T
    kinds, kind_of = np.unique(has_value, axis=0, return_inverse=True)

    def find_first_rows(positions: npt.NDArray[np.int64]) -> FirstRows:
        return Grid(rows.keep(positions), step.case, step.occasion).first_rows

    return CoverageSurvey(
        find_first_rows(np.flatnonzero(~is_balancing)),
        {
            tuple(name for name, has in zip(measures, kind, strict=True) if has): find_first_rows(
                chosen[kind_of.ravel() == index]
            )
            for index, kind in enumerate(kinds.tolist())
        },
        {name: cases.find_variation(name).unequal for name in measures},
    )


def report_coverage(
    step: Coverage, tables: Inputs, wanted: Collection[str], whole: CoverageSurvey | None = None
) -> Result:
    """Look who was seen when; `whole` is the survey of all parts."""
    covering = CoverageReport(step, tables.get_one(), whole)
    # The measures are counted while the grid is built.
    table_made, _ = map_in_threads(lambda make: make(), [covering.make_table, lambda: covering.measured])
    account, tally = covering.make_account(table_made), covering.tally
    if step.by:
        figures = {"figure": covering.retention.make_figure()} if "figure" in wanted else {}
        return Result(covering.retention.make_table(), account, figures, tally=tally)
    extras = {"figure": covering.make_figure()} if "figure" in wanted else {}
    return Result(table_made, account, extras, tally=tally)


def choose_complete_rows(step: Coverage, table: Table) -> tuple[Table, tuple[Part, ...]]:
    """Return the rows that have a case and an occasion, and how many do not."""
    is_complete = np.ones(len(table), np.bool_)
    without = []
    for cause, names in (("no-case", step.case), ("no-occasion", step.occasion)):
        is_lost = is_complete & np.logical_or.reduce([table[name].is_missing for name in names])
        without.append(Part("missing", int(np.count_nonzero(is_lost)), cause))
        is_complete &= ~is_lost
    return table.keep(np.flatnonzero(is_complete)), tuple(without)


@dataclass(frozen=True)
class PatternFigure(Combinable):
    """Patterns to be drawn."""

    occasions: tuple[str, ...]  # the occasions in words
    patterns: PatternCounts
    title: str  # what the occasions are

    @property
    def is_empty(self) -> bool:
        """True if there is no case."""
        return not len(self.patterns.counts)

    def combine(self, later: PatternFigure) -> PatternFigure:
        """Return the patterns of both parts."""
        return replace(self, patterns=self.patterns.combine(later.patterns))


class CoverageReport:
    """The coverage of one table, or of a part of it."""

    def __init__(self, step: Coverage, table: Table, whole: CoverageSurvey | None) -> None:
        self.step, self.source = step, table
        rows, without = choose_complete_rows(step, table)
        unseen = find_unseen_rows(rows, step.case, step.occasion, whole.varying if whole else None)
        self.without = (*without, Part("missing", int(np.count_nonzero(unseen)), "no-visit", reason=NO_OCCASION))
        self.rows = rows.keep(np.flatnonzero(~unseen))
        self.grid = Grid(self.rows, step.case, step.occasion, whole=whole.decide() if whole else None)
        if self.grid.size > MOST_CELLS:
            raise DataError(
                f"{len(self.grid.cases):,} cases at {self.grid.times:,} occasions are too many for one table.",
                todo='Name an occasion of fewer values, such as the month: derive "month = month(day)".',
            )
        self.patterns = Patterns(self.grid.seen)
        labels = {name: table.dictionary.labels_of(name) for name in step.occasion}
        self.occasions = [
            ", ".join(format_occasion_values(step.occasion, occasion, labels)) for occasion in self.grid.occasions
        ]

    def make_figure(self) -> PatternFigure:
        """What is drawn."""
        return PatternFigure(tuple(self.occasions), self.tally.patterns, ", ".join(self.step.occasion))

    @cached_property
    def retention(self) -> Retention:
        """Who stayed, by group."""
        return Retention(self.rows, self.grid, self.patterns, self.step.by, self.step.min_n, self.occasions)

    # ------------------------------------------------------------------- table

    def make_table(self) -> Table:
        """Return one row per case: its pattern, how often, first and last seen, occasions missed in between."""
        patterns, cases = self.patterns, self.grid.cases
        columns = {name: self.rows[name].take(cases.firsts) for name in self.step.case}
        texts = Pool.of(patterns.format_patterns())
        columns["pattern"] = Column.of_strings(patterns.of_case.astype(np.int32), texts)
        seen = np.count_nonzero(patterns.rows, axis=1)[patterns.of_case]
        columns["occasions_seen"] = Column.of("integer", seen)
        for word, positions in (("first", patterns.first), ("last", patterns.last)):
            for index, name in enumerate(self.step.occasion):
                column = self.rows[name].take(self.grid.rows_at(positions))
                columns[f"{word}_{name}" if len(self.step.occasion) == 1 else f"{word}_{name}_{index + 1}"] = column
        columns["missed_between"] = Column.of("integer", patterns.last - patterns.first + 1 - seen)
        row_counts = cases.lengths if cases.is_contiguous else np.bincount(cases.of_row, minlength=len(cases))
        columns["rows"] = Column.of("integer", row_counts)
        labels = {
            "pattern": f"seen (x) or not (_) at {self.step.occasion[0]} {', '.join(self.occasions)}",
            "occasions_seen": "occasions at which the case was seen",
            "missed_between": "occasions missed between the first and the last",
            "rows": "rows of the case",
        }
        dictionary = self.source.dictionary.for_columns(self.step.case)
        entries = {**dictionary.variables, **{name: Variable(label=label) for name, label in labels.items()}}
        numbers = None if self.source.row_numbers is None else self.rows.find_row_numbers(cases.firsts)
        return Table(columns, Dictionary(entries, dictionary.codes), name="coverage", row_numbers=numbers)

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report what adds up over parts; the conclusion makes the rest from the tallies."""
        cells = int(np.count_nonzero(self.patterns.seen))
        parts = (Part("kept", cells, "first"), Part("unused", len(self.rows) - cells, "repeating"), *self.without)
        cases = int(self.patterns.counts.sum())
        return Account(
            "coverage",
            "",
            (
                Balance("rows", len(self.source), parts, self.source.name),
                Balance("cases", len(result), (Part("kept", cases),), quiet=True),
            ),
            notes=tuple(self._make_notes()),
            listings=(self.retention.make_listing(),) if self.step.by else (),
        )

    @cached_property
    def tally(self) -> Tally:
        """What the conclusion needs of this part."""
        repeated = len(self.rows) - int(np.count_nonzero(self.patterns.seen))
        patterns = PatternCounts(self.patterns.rows, self.patterns.counts)
        groups = self.retention.groups.count if self.step.by else 0
        measures, cells = self.measured
        return Tally(Same(tuple(self.occasions)), patterns, repeated, groups, Same(len(measures)), cells)

    @cached_property
    def measured(self) -> tuple[list[str], Mapping[str, tuple[int, ...]]]:
        """The measures; and of the first ones and of all rows ("") the number of cells with a value, by occasion."""
        types = self.rows.types()
        key = {*self.step.case, *self.step.occasion}
        names = [name for name in types if name not in key]
        if self.step.measure:
            names = choose_columns(self.step.measure, types, self.rows.name)
        rows = self.grid.count_per_occasion()
        cells = {"": tuple(rows.tolist())}
        for name in names[:MOST_MEASURES]:
            column = self.rows[name]
            present = rows if column.why is None else self.grid.count_per_occasion(column.why == 0)
            cells[name] = tuple(present.tolist())
        return names, cells

    def _make_notes(self) -> Iterator[Note]:
        yield from self.grid.order_notes
        rows = self.grid.repeated
        texts = format_keys(self.rows, [*self.step.case, *self.step.occasion], rows[:MOST_EXAMPLES])
        text = Words("{rows:row shares|rows share} case and occasion with another one.", rows=len(rows))
        yield Note(text, "", self.rows.show_rows(rows, texts), "repeated", len(rows))
        if self.step.by:
            yield from self.retention.make_notes()
