"""Who was seen when, from the grid of cases and occasions."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import DataError
from lomrix.core.rows.grid import Grid, find_unseen_rows
from lomrix.core.rows.occasions import format_occasion_pair
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.coverage.patterns import Patterns
from lomrix.core.steps.coverage.retention import Retention, format_share
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

MOST_CELLS = 2_000_000_000
MOST_PATTERNS = 15
MOST_MEASURES = 40


def report_coverage(step: Coverage, tables: Inputs, wanted: Collection[str]) -> Result:
    """Look who was seen when."""
    covering = CoverageReport(step, tables.get_one())
    with ThreadPoolExecutor(1) as worker:  # the measures are counted while the grid is built
        measured = worker.submit(lambda: covering.measured)
        table_made = covering.make_table()
        measured.result()
    if step.by:
        figures = {"figure": covering.retention.make_figure()} if "figure" in wanted else {}
        return Result(covering.retention.make_table(), covering.make_account(table_made), figures)
    extras = {"figure": covering.make_figure()} if "figure" in wanted else {}
    return Result(table_made, covering.make_account(table_made), extras)


@dataclass(frozen=True)
class PatternFigure:
    """Patterns to be drawn."""

    occasions: tuple[str, ...]  # the occasions in words
    # shape (patterns, occasions) where a pattern was seen, and the cases of each, the commonest first
    patterns: npt.NDArray[np.bool_]
    counts: npt.NDArray[np.int64]
    title: str  # what the occasions are

    @property
    def is_empty(self) -> bool:
        """True if there is no case."""
        return not len(self.counts)


class CoverageReport:
    """The coverage of one table."""

    def __init__(self, step: Coverage, table: Table) -> None:
        self.step, self.source = step, table
        is_complete = np.ones(len(table), np.bool_)
        self.without: list[Part] = []
        for cause, names in (("no-case", step.case), ("no-occasion", step.occasion)):
            missing_masks = [table[name].is_missing for name in names if table[name].missing_count]
            if missing_masks:
                lost = np.logical_or.reduce(missing_masks) & is_complete
                self.without.append(Part("missing", int(np.count_nonzero(lost)), cause))
                is_complete &= ~lost
        rows = table.take(np.flatnonzero(is_complete)) if self.without else table
        unseen = find_unseen_rows(rows, step.case, step.occasion)
        if unseen.any():
            self.without.append(Part("missing", int(np.count_nonzero(unseen)), "no-visit", reason=NO_OCCASION))
            rows = rows.take(np.flatnonzero(~unseen))
        self.rows = rows
        self.grid = Grid(self.rows, step.case, step.occasion)
        if self.grid.size > MOST_CELLS:
            raise DataError(
                f"{len(self.grid.cases):,} cases at {self.grid.times:,} occasions are too many for one table.",
                todo='Name an occasion of fewer values, such as the month: derive "month = month(day)".',
            )
        self.patterns = Patterns(self.grid.seen)
        labels = {name: table.dictionary.labels_of(name) for name in step.occasion}
        occasion_texts = [format_occasion_pair(step.occasion, occasion, labels) for occasion in self.grid.occasions]
        first = f"{step.occasion[0]} "
        self.occasions = [text.removeprefix(first) if len(step.occasion) == 1 else text for text in occasion_texts]

    def make_figure(self) -> PatternFigure:
        """What is drawn."""
        patterns = self.patterns
        return PatternFigure(tuple(self.occasions), patterns.rows, patterns.counts, ", ".join(self.step.occasion))

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
        return Table(columns, Dictionary(entries, dictionary.codes), name="coverage")

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report who was seen when."""
        grid, patterns = self.grid, self.patterns
        cells = int(np.count_nonzero(patterns.seen))
        repeated = len(self.rows) - cells
        parts = (Part("kept", cells, "first"), Part("unused", repeated, "repeating"), *self.without)
        complete = int(patterns.counts[patterns.rows.all(axis=1)].sum())
        summary = f"{pluralize(len(grid.cases), 'case')} at {pluralize(grid.times, 'occasion')}"
        if self.step.by:
            summary += f", in {pluralize(self.retention.groups.count, 'group')} by {', '.join(self.step.by)}"
        if not self.step.min_n:
            summary += f"; {complete:,} seen at all of them, {cells:,} of {grid.size:,} possible visits made"
        facts = {"cases": len(grid.cases), "occasions": self.occasions, "repeated_rows": repeated}
        return Account(
            "coverage",
            f"{summary}.",
            (
                Balance("rows", len(self.source), parts, self.source.name),
                Balance("cases", len(result), (Part("kept", int(patterns.counts.sum())),), quiet=True),
            ),
            facts if self.step.min_n else {**facts, "seen_at_all": complete},
            tuple(self._make_listings()),
            tuple(self._make_notes()),
        )

    def _make_listings(self) -> Iterator[Listing]:
        if self.step.by:
            yield self.retention.make_listing()
        if self.step.min_n:  # what is told of all cases could give single ones away
            return
        flows, cases = self.patterns.count_flows(), len(self.grid.cases)
        lines = []
        for index, text in enumerate(self.occasions):
            numbers = {word: int(counts[index]) for word, counts in flows.items()}
            start = int(flows["seen"][0])
            lines.append(
                (text, numbers["seen"], format_share(numbers["seen"], cases), format_share(numbers["kept"], start),
                 *(numbers[word] if index else "" for word in ("new", "returned", "left")),
                 numbers["not again"] if index + 1 < len(self.occasions) else "")
            )  # fmt: skip
        name = ", ".join(self.step.occasion)
        heads = (name, "seen", "% of cases", f"% of those at {self.occasions[0] if self.occasions else ''}",
                 "new", "returned", "left", "not seen again")  # fmt: skip
        yield Listing("seen at each occasion", heads, tuple(lines), splits=True)
        yield self._list_patterns(cases)
        if self.measured is not None:
            yield self.measured

    def _list_patterns(self, cases: int) -> Listing:
        patterns = self.patterns
        texts, counts = patterns.format_patterns()[:MOST_PATTERNS], patterns.counts
        lines: list[tuple[object, ...]] = [
            (text, int(n), format_share(int(n), cases)) for text, n in zip(texts, counts, strict=False)
        ]
        if len(counts) > MOST_PATTERNS:
            others = int(counts[MOST_PATTERNS:].sum())
            lines.append((f"{len(counts) - MOST_PATTERNS:,} further patterns", others, format_share(others, cases)))
        return Listing("patterns: x seen, _ not", ("pattern", "cases", "% of cases"), tuple(lines))

    @cached_property
    def measured(self) -> Listing | None:
        """Share of the rows of each occasion in which a measure has a value."""
        types = self.rows.types()
        key = {*self.step.case, *self.step.occasion}
        names = [name for name in types if name not in key]
        if self.step.measure:
            names = choose_columns(self.step.measure, types, self.rows.name)
        if not names:
            return None
        rows = self.grid.count_per_occasion()
        lines = []
        for name in names[:MOST_MEASURES]:
            column = self.rows[name]
            present = rows if column.why is None else self.grid.count_per_occasion(column.why == 0)
            lines.append(
                (name, *(format_share(int(n), int(row_count)) for n, row_count in zip(present, rows, strict=True)))
            )
        more = f"; {len(names) - MOST_MEASURES:,} further ones are not shown" if len(names) > MOST_MEASURES else ""
        title = f"cells with a value, % of the rows of the occasion{more}"
        start = f"{self.step.occasion[0]} " if len(self.step.occasion) == 1 else ""
        heads = tuple(start + text for text in self.occasions)
        return Listing(title, ("variable", *heads), tuple(lines), splits=True)

    def _make_notes(self) -> Iterator[Note]:
        yield from self.grid.order_notes
        rows = self.grid.repeated
        if len(rows):
            first_rows = rows[:MOST_EXAMPLES]
            texts = zip(*(self.rows[name].take(first_rows).to_text().to_pylist()
                          for name in (*self.step.case, *self.step.occasion)), strict=True)  # fmt: skip
            numbers = (first_rows + self.rows.first_row).tolist() if self.rows is self.source else [0] * len(first_rows)
            examples = tuple((row, " ".join(map(str, text))) for row, text in zip(numbers, texts, strict=True) if row)
            text = f"{pluralize(len(rows), 'row shares', 'rows share')} case and occasion with another one."
            yield Note(text, "", examples, "repeated", len(rows))
        if self.step.by:
            yield from self.retention.make_notes()
        if self.step.min_n:
            return
        patterns = self.patterns
        gaps = patterns.pattern_last - patterns.pattern_first + 1 > np.count_nonzero(patterns.rows, axis=1)
        missed = int(patterns.counts[gaps].sum())
        if missed:
            text = f"{pluralize(missed, 'case')} missed an occasion and came back."
            yield Note(text, kind="missed-between", count=missed, done=True)
