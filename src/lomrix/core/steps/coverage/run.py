"""Who was seen when, from the grid of cases and occasions."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError
from lomrix.core.rows.grid import Grid, find_unseen_rows
from lomrix.core.rows.occasions import told
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.coverage.patterns import Patterns
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

MOST_CELLS = 2_000_000_000
MOST_PATTERNS = 15
MOST_MEASURES = 40
MOST_EXAMPLES = 4


def covered(step: Coverage, tables: Inputs, wanted: Collection[str]) -> Result:
    """Look who was seen when."""
    work = Covering(step, tables.one())
    with ThreadPoolExecutor(1) as worker:  # the measures are counted while the cases are laid out
        measured = worker.submit(lambda: work.measured)
        made = work.table()
        measured.result()
    extras = {"figure": work.figure()} if "figure" in wanted else {}
    return Result(made, work.account(made), extras)


@dataclass(frozen=True)
class Seen:
    """Patterns to be drawn.

    Parameters
    ----------
    occasions
        The occasions in words.
    patterns, counts
        Shape (patterns, occasions) where a pattern was seen, and the cases of each, the commonest first.
    title
        What the occasions are.
    """

    occasions: tuple[str, ...]
    patterns: npt.NDArray[np.bool_]
    counts: npt.NDArray[np.int64]
    title: str

    @property
    def is_empty(self) -> bool:
        """True where there is no case."""
        return not len(self.counts)


class Covering:
    """One table being looked at."""

    def __init__(self, step: Coverage, table: Table) -> None:
        self.step, self.source = step, table
        fine = np.ones(len(table), np.bool_)
        self.without: list[tuple[str, int]] = []
        for what, names in (("a case", step.case), ("an occasion", step.occasion)):
            gone = [table[name].is_missing for name in names if table[name].missing_count]
            if gone:
                lost = np.logical_or.reduce(gone) & fine
                self.without.append((f"without {what}", int(np.count_nonzero(lost))))
                fine &= ~lost
        rows = table.take(np.flatnonzero(fine)) if self.without else table
        unseen = find_unseen_rows(rows, step.case, step.occasion)
        if unseen.any():
            self.without.append(("without a visit (no-occasion)", int(np.count_nonzero(unseen))))
            rows = rows.take(np.flatnonzero(~unseen))
        self.rows = rows
        self.grid = Grid(self.rows, step.case, step.occasion)
        if self.grid.size > MOST_CELLS:
            raise DataError(
                f"{len(self.grid.cases):,} cases at {self.grid.times:,} occasions are too many to be laid out.",
                todo='Name an occasion of fewer values, such as the month: derive "month = month(day)".',
            )
        self.patterns = Patterns(self.grid.seen)
        labels = {name: table.dictionary.labels_of(name) for name in step.occasion}
        told_whole = [told(step.occasion, one, labels) for one in self.grid.occasions]
        first = f"{step.occasion[0]} "
        self.occasions = [text.removeprefix(first) if len(step.occasion) == 1 else text for text in told_whole]

    def figure(self) -> Seen:
        """What is drawn."""
        found = self.patterns
        return Seen(tuple(self.occasions), found.rows, found.counts, ", ".join(self.step.occasion))

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """One row per case: its pattern, how often, first and last seen, occasions missed in between."""
        found, cases = self.patterns, self.grid.cases
        columns = {name: self.rows[name].take(cases.firsts) for name in self.step.case}
        texts = Pool.of(found.texts())
        columns["pattern"] = Column.of_strings(found.of_case.astype(np.int32), texts)
        seen = np.count_nonzero(found.rows, axis=1)[found.of_case]
        columns["occasions_seen"] = Column.of("integer", seen)
        for word, places in (("first", found.first), ("last", found.last)):
            for place, name in enumerate(self.step.occasion):
                own = self.rows[name].take(self.grid.rows_at(places))
                columns[f"{word}_{name}" if len(self.step.occasion) == 1 else f"{word}_{name}_{place + 1}"] = own
        columns["missed_between"] = Column.of("integer", found.last - found.first + 1 - seen)
        of_case = cases.lengths if cases.together else np.bincount(cases.of_row, minlength=len(cases))
        columns["rows"] = Column.of("integer", of_case)
        labels = {
            "pattern": f"seen (x) or not (_) at {self.step.occasion[0]} {', '.join(self.occasions)}",
            "occasions_seen": "occasions at which the case was seen",
            "missed_between": "occasions missed between the first and the last",
            "rows": "rows of the case",
        }
        known = self.source.dictionary.for_columns(self.step.case)
        entries = {**known.variables, **{name: Variable(label=label) for name, label in labels.items()}}
        return Table(columns, Dictionary(entries, known.codes), name="coverage")

    # ----------------------------------------------------------------- account

    def account(self, made: Table) -> Account:
        """What was found."""
        grid, found = self.grid, self.patterns
        cells = int(np.count_nonzero(found.seen))
        repeated = len(self.rows) - cells
        parts = [("first of their case and occasion", cells), ("repeating one", repeated), *self.without]
        whole = int(found.counts[found.rows.all(axis=1)].sum())
        return Account(
            "coverage",
            f"{counted(len(grid.cases), 'case', 'cases')} at {counted(grid.times, 'occasion', 'occasions')}; "
            f"{whole:,} seen at all of them, {cells:,} of {grid.size:,} possible visits made.",
            (
                Balance(f"rows of {self.source.name}", len(self.source), tuple((w, n) for w, n in parts if n)),
                Balance("cases", len(made), (("with a pattern", int(found.counts.sum())),), quiet=True),
            ),
            {"cases": len(grid.cases), "occasions": self.occasions, "seen_at_all": whole, "repeated_rows": repeated},
            tuple(self._listings()),
            tuple(self._notes()),
        )

    def _listings(self) -> Iterator[Listing]:
        flows, cases = self.patterns.flows(), len(self.grid.cases)
        lines = []
        for at, text in enumerate(self.occasions):
            own = {word: int(counts[at]) for word, counts in flows.items()}
            start = int(flows["seen"][0])
            lines.append(
                (text, own["seen"], share(own["seen"], cases), share(own["kept"], start),
                 *(own[word] if at else "" for word in ("new", "returned", "left")),
                 own["not again"] if at + 1 < len(self.occasions) else "")
            )  # fmt: skip
        name = ", ".join(self.step.occasion)
        heads = (name, "seen", "% of cases", f"% of those at {self.occasions[0] if self.occasions else ''}",
                 "new", "returned", "left", "not seen again")  # fmt: skip
        yield Listing("seen at each occasion", heads, tuple(lines), splits=True)
        yield self._of_patterns(cases)
        if self.measured is not None:
            yield self.measured

    def _of_patterns(self, cases: int) -> Listing:
        found = self.patterns
        texts, counts = found.texts()[:MOST_PATTERNS], found.counts
        lines: list[tuple[object, ...]] = [
            (text, int(n), share(int(n), cases)) for text, n in zip(texts, counts, strict=False)
        ]
        if len(counts) > MOST_PATTERNS:
            rest = int(counts[MOST_PATTERNS:].sum())
            lines.append((f"{len(counts) - MOST_PATTERNS:,} further patterns", rest, share(rest, cases)))
        return Listing("patterns: x seen, _ not", ("pattern", "cases", "% of cases"), tuple(lines))

    @cached_property
    def measured(self) -> Listing | None:
        """Share of the rows of each occasion in which a measure has a value."""
        types = self.rows.types()
        key = {*self.step.case, *self.step.occasion}
        names = [name for name in types if name not in key]
        if self.step.measure:
            names = chosen_columns(self.step.measure, types, self.rows.name)
        if not names:
            return None
        rows = self.grid.at_each()
        lines = []
        for name in names[:MOST_MEASURES]:
            column = self.rows[name]
            present = rows if column.why is None else self.grid.at_each(column.why == 0)
            lines.append((name, *(share(int(n), int(own)) for n, own in zip(present, rows, strict=True))))
        more = f"; {len(names) - MOST_MEASURES:,} further ones are not shown" if len(names) > MOST_MEASURES else ""
        title = f"cells with a value, per cent of the rows of the occasion{more}"
        start = f"{self.step.occasion[0]} " if len(self.step.occasion) == 1 else ""
        heads = tuple(start + text for text in self.occasions)
        return Listing(title, ("variable", *heads), tuple(lines), splits=True)

    def _notes(self) -> Iterator[Note]:
        yield from self.grid.order_notes
        rows = self.grid.repeated
        if len(rows):
            told_rows = rows[:MOST_EXAMPLES]
            texts = zip(*(self.rows[name].take(told_rows).to_text().to_pylist()
                          for name in (*self.step.case, *self.step.occasion)), strict=True)  # fmt: skip
            numbers = (told_rows + self.rows.first_row).tolist() if self.rows is self.source else [0] * len(told_rows)
            examples = tuple((row, " ".join(map(str, text))) for row, text in zip(numbers, texts, strict=True) if row)
            text = f"{counted(len(rows), 'row shares', 'rows share')} case and occasion with another one."
            yield Note(text, "", examples, "repeated", len(rows))
        found = self.patterns
        gaps = found.row_last - found.row_first + 1 > np.count_nonzero(found.rows, axis=1)
        missed = int(found.counts[gaps].sum())
        if missed:
            text = f"{counted(missed, 'case', 'cases')} missed an occasion and came back."
            yield Note(text, kind="missed-between", count=missed, done=True)


def share(part: int, whole: int) -> str:
    """A per cent to one place."""
    return f"{100 * part / whole:.1f}" if whole else ""
