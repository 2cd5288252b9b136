"""Describe every column, the keys, and the columns that look like repeated measures."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from functools import cached_property

import numpy as np

from lomrix.core.arrays.types import Array, Mask
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import Proposal
from lomrix.core.nearest import find_near_duplicates, name_difference
from lomrix.core.rows.candidate_keys import find_candidate_keys
from lomrix.core.rows.column_survey import ColumnSurvey, SurveyedTable, TableSurvey
from lomrix.core.rows.occurrences import (
    BLOCK,
    NEARLY,
    find_repeats,
    is_mostly_distinct,
)
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.profile.settings import Profile
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.distinct import FEW, find_texts_not_listed
from lomrix.core.table.header_guess import Guess, guess_families
from lomrix.core.table.missing_guess import describe_codes
from lomrix.core.table.notes import MOST_ALIKE, Note, pluralize
from lomrix.core.table.table import Table
from lomrix.core.wording import format_operand, shorten_list

# Most frequent values that are shown.
SHOWN = 4
LEAST_ROWS = 20
MOST_GROUPS = 3
# Labels are shortened if at least this many characters are the same.
LEAST_SHARED = 8
# Names of columns of dates, and the numbers that spreadsheets give to days from 1927 to 2064.
DAY_NAME = re.compile(r"date|born|birth|dob|(?:^|[_ ])(?:day|start|end|from|until|visit|seen)(?:$|[_ ])", re.I)
FIRST_DAY, LAST_DAY = 10_000, 60_000
HEADS = ("column", "type", "missing", "distinct", "range or most frequent values", "label")


def survey(step: Profile, tables: Inputs) -> TableSurvey:
    """Survey each column."""
    return TableSurvey.of(tables.get_one())


def profile(step: Profile, tables: Inputs, wanted: Collection[str], known: TableSurvey | None = None) -> Result:
    """Describe the table; the result has one row per column."""
    profiling = Profiling(step, tables.get_one(), survey(step, tables) if known is None else known)
    return Result(make_table(profiling.rows), profiling.make_account())


class Profiling:
    """A table being described by its survey; only what that leaves open is looked for in the table."""

    def __init__(self, step: Profile, table: Table, survey: TableSurvey) -> None:
        self.step, self.table, self.surveys = step, table, survey.columns
        self.names = sorted(table.names) if step.sort == "name" else table.names
        self.known = SurveyedTable(table, survey, step.cell_size)

    @cached_property
    def rows(self) -> list[tuple[object, ...]]:
        """One row for each column."""
        return [self.describe_column(name) for name in self.names]

    def describe_column(self, name: str) -> tuple[object, ...]:
        """Describe one column as a row."""
        missing = ", ".join(f"{count:,} {reason}" for reason, count in self.surveys[name].reasons.items())
        count, values = self.summarize_values(name)
        return (name, self.table[name].type, missing or "none", count, values, self.table.dictionary.of(name).label)

    def summarize_values(self, name: str) -> tuple[int, str]:
        """Return the number of distinct values, and the range or the most frequent values."""
        survey, labels = self.surveys[name], CodeList(self.table.dictionary.labels_of(name))
        if not survey.present:
            return 0, ""
        count = self.known.count_distinct(name)
        if survey.ends is not None and not (survey.ends.type == "integer" and labels.labels):
            low, high = survey.ends.take(np.array([0, len(survey.ends) - 1])).to_text().to_pylist()
            if survey.ends.type == "number":
                low, high = (f"{value:g}" for value in survey.ends.values[[0, -1]])
            return count, f"{low} to {high}"
        if is_mostly_distinct(count, survey.rows):
            return count, "such as " + ", ".join(dict.fromkeys(survey.shown.to_text().to_pylist()))
        parts = []
        for text, cells in self.known.list_most_frequent(name, SHOWN):
            label = labels.label_of(text)
            shown = (label or text) if self.step.as_labels else text + (f" {label}" if label else "")
            parts.append(f"{shown} ({cells:,})")
        return count, ", ".join(parts) + (" …" if count > len(parts) else "")

    # ----------------------------------------------------------------- account

    def make_account(self) -> Account:
        """Report the columns, the keys, and what to look at."""
        table, names = self.table, self.names
        distinct = {name: self.known.count_distinct(name) for name in table.names}
        keys = find_candidate_keys(table, distinct, self.known.rows_at_once)
        guess = guess_families(table.names)
        no_keys = (
            "none, no column and no pair uniquely identifies rows" if len(table) > 1 else "unknown with so few rows"
        )
        key_text = shorten_list(keys, 4) if keys else no_keys
        parts = (
            Part("kept", sum(survey.present for survey in self.surveys.values()), "present"),
            Part("missing", sum(survey.missing for survey in self.surveys.values())),
        )
        return Account(
            "profile",
            f"{pluralize(len(table), 'row')}, {pluralize(len(names), 'column')}. Candidate keys: {key_text}.",
            (Balance("cells", len(table) * len(names), parts),),
            {
                "rows": len(table), "keys": keys, "labels": {name: table.dictionary.of(name).label for name in names},
                "repeated_measures": guess.measures if guess is not None else {},
            },
            (Listing("columns", HEADS, tuple(shorten_labels(self.rows, guess))), *list_families(table, guess)),
            (*self.note_near_keys(), *(note for name in table.names for note in self.note_values(name))),
            () if guess is None else (self.propose(guess, keys),),
        )  # fmt: skip

    def propose(self, guess: Guess, keys: Sequence[str]) -> Proposal:
        """Propose to reshape repeated measures, or to mend them first."""
        measures = {name for columns in guess.measures.values() for name in columns}
        case = tuple(key for key in keys if " + " not in key and key not in measures)[:1]
        # Whether types go together shows in the ends of their values.
        shown = {name: survey.shown if survey.ends is None else survey.ends for name, survey in self.surveys.items()}
        if all(common_type([shown[name] for name in columns]) for columns in guess.measures.values()):
            return Proposal("to-long", guess.settings(case))
        words = "first mend the text among the numbers of one measure"
        return Proposal("check", {"key": case}, outputs={"draft_ledger": "ledger.csv"}, words=words)

    def note_near_keys(self) -> Iterator[Note]:
        """Note columns that would uniquely identify rows but for a few repeated or missing values."""
        for name, column in self.table.columns.items():
            # Numbers are ids in the first column; elsewhere they are measurements.
            is_id = column.type == "string" or (column.type == "integer" and name == self.table.names[0])
            rows = len(column)
            if not is_id or rows < LEAST_ROWS or self.known.count_distinct(name) < NEARLY * rows:
                continue
            occurrences = self.known.get_occurrences(name)
            if occurrences.repeated:
                first = find_repeats(column, self.known.most_distinct)
                examples = self.table.show_rows(first, column.take(first).to_text().to_pylist())
                values = pluralize(occurrences.repeated, "value is", "values are")
                text = f"nearly a key, but {values} in several rows."
                yield Note(text, name, examples, "nearly-key", occurrences.repeated_rows)

    def note_values(self, name: str) -> Iterator[Note]:
        """Note what a person should look at in a column."""
        survey, labels = self.surveys[name], self.table.dictionary.labels_of(name)
        if 0 < survey.decimals <= FEW * survey.present:
            _, rows = self.find_rows(name, lambda values: values % 1 != 0)
            examples = self.table.show_rows(rows, self.table[name].values[rows].tolist())
            yield Note("all other cells are whole numbers.", name, examples, "mixed-decimals", survey.decimals)
        if codes := self.known.guess_codes(name):
            count, rows = self.find_rows(name, lambda values: np.isin(values, codes))
            yield Note(describe_codes(codes), name, self.table.show_rows(rows), "missing-code", count)
        if note := note_day_numbers(name, survey):
            yield note
        if survey.shown.type == "string" and (distinct := survey.distinct) and len(distinct.counts) <= MOST_ALIKE:
            texts = distinct.values.to_text().to_pylist()
            for group in find_near_duplicates(texts, distinct.counts.tolist())[:MOST_GROUPS]:
                shown = ", ".join(f'"{text}" ({count:,})' for text, count in group)
                text = f"texts that differ only in {name_difference([text for text, _ in group])}: {shown}."
                yield Note(text, name, (), "nearly-same", sum(count for _, count in group))
        if labels:
            values = self.table[name] if survey.distinct is None else survey.distinct.values
            if unlabelled := find_texts_not_listed(values, list(labels)):
                text = f"values without a label: {shorten_list(unlabelled, 10)}."
                yield Note(text, name, (), "no-label", len(unlabelled))

    def find_rows(self, name: str, is_wanted: Callable[[Array], Mask]) -> tuple[int, Array]:
        """Return how many cells of a column have a wanted value, and the rows of the first ones."""
        count, first = 0, np.zeros(0, np.int64)
        for start in range(0, len(self.table), BLOCK):
            column = self.table[name].slice(start, min(start + BLOCK, len(self.table)))
            rows = np.flatnonzero(is_wanted(column.values) & ~column.is_missing)
            count, first = count + len(rows), np.append(first, rows[:MOST_EXAMPLES] + start)[:MOST_EXAMPLES]
        return count, first


def note_day_numbers(name: str, survey: ColumnSurvey) -> Note | None:
    """Note whole numbers that a column of dates holds as spreadsheets count them."""
    if survey.shown.type != "integer" or survey.ends is None or not len(survey.ends) or not DAY_NAME.search(name):
        return None
    low, high = int(survey.ends.values[0]), int(survey.ends.values[-1])
    if not FIRST_DAY <= low <= high <= LAST_DAY:
        return None
    day = np.datetime64("1899-12-30") + low
    text = f"looks like days as spreadsheets count them ({low} is {day}); if so, derive the date: "
    return Note(f"{text}date('1899-12-30') + {format_operand(name)}", name, kind="day-numbers", count=survey.present)


def list_families(table: Table, guess: Guess | None) -> tuple[Listing, ...]:
    """List the columns that look like one measure at several occasions."""
    if guess is None:
        return ()
    rows: list[tuple[object, ...]] = []
    for measure, columns in guess.measures.items():
        label = find_common_prefix([table.dictionary.of(name).label for name in columns]).rstrip(" ,;:")
        rows.append((measure, len(columns), " ".join(columns[:6]) + (" …" if len(columns) > 6 else ""), label))
    heads = ("measure", "columns", "names", "label")
    if not any(row[-1] for row in rows):
        heads, rows = heads[:-1], [row[:-1] for row in rows]  # type: ignore[assignment]
    return (Listing("likely repeated measures", heads, tuple(rows)),)


def find_common_prefix(labels: Sequence[str]) -> str:
    """Return the common beginning of several labels, up to a whole word.

    >>> find_common_prefix(["Sleep in 24 hours, month 3", "Sleep in 24 hours, month 12"])
    'Sleep in 24 hours, '
    """
    first, last = min(labels), max(labels)
    length = next(
        (index for index, (left, right) in enumerate(zip(first, last, strict=False)) if left != right), len(first)
    )
    shared = first[:length]
    if len(labels) > 1 and shared in labels:
        return shared
    comma = shared.rfind(", ")
    return shared[: comma + 2] if comma >= 0 else shared[: shared.rfind(" ") + 1]


def shorten_labels(rows: Sequence[tuple[object, ...]], guess: Guess | None) -> list[tuple[object, ...]]:
    """Shorten labels of a family that begin alike; only the first is shown in full."""
    labels = {str(row[0]): str(row[-1]) for row in rows}
    for columns in guess.measures.values() if guess is not None else ():
        shared = find_common_prefix([labels[name] for name in columns])
        if len(columns) > 1 and len(shared) >= LEAST_SHARED:
            labels |= {name: "… " + labels[name].removeprefix(shared) for name in columns[1:]}
    return [(*row[:-1], labels[str(row[0])]) for row in rows]


def make_table(rows: list[tuple[object, ...]]) -> Table:
    """Return the description as a table."""
    heads = ("column", "type", "missing", "distinct", "values", "label")
    columns = {
        head: Column.of_cells("integer" if head == "distinct" else "string", [row[index] or None for row in rows])
        for index, head in enumerate(heads)
    }
    return Table(columns, name="profile")
