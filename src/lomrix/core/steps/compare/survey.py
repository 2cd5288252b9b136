"""What a comparison must know of all rows: counts, and exact sums of numbers and of their products."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Extreme, Words
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import Cases
from lomrix.core.rows.counted import CountedRows
from lomrix.core.rows.keys import group_rows, show_repeated
from lomrix.core.rows.statistic_names import NUMERIC
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.compare.sides import find_first_rows
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table

Kind = Literal["groups", "codes", "pairs", "slopes", "adjusted"]
Numbers = npt.NDArray[np.float64]
MOST_CODES = 50


@dataclass(frozen=True)
class Choice:
    """What is compared: the measures, and the columns beside them."""

    table: Table
    step: Compare
    measures: list[str]
    covariates: list[str]

    @classmethod
    def of(cls, step: Compare, table: Table) -> Choice:
        """Choose the columns.

        Raises UsageError if they do not fit together.
        """
        measures = choose_columns(step.measure, table.types(), table.name)
        covariates = choose_columns(step.adjust, table.types(), table.name) if step.adjust else []
        for name in (step.between, step.against, *step.paired_on, *covariates):
            if name:
                table[name]
            if name in measures:
                raise UsageError(f"{name} cannot be compared with itself.", todo="Leave it out of ‹measure›.")
            if name == step.between and name in covariates:
                raise UsageError(f"{name} cannot be adjusted for itself.", todo="Leave it out of ‹adjust›.")
        return cls(table, step, measures, covariates)

    def find_kind(self, measure: str) -> Kind:
        """Return how a measure is compared."""
        if self.step.against:
            return "slopes"
        if self.covariates:
            return "adjusted"
        if self.step.paired_on:
            return "pairs"
        return "codes" if self.has_codes(measure) else "groups"

    def has_codes(self, measure: str) -> bool:
        """Return whether the values of a measure are codes or words, which are counted."""
        return self.table[measure].type in ("string", "boolean") or self.is_coded(measure)

    def is_coded(self, measure: str) -> bool:
        """Return whether a measure has labels, and they count."""
        return bool(self.table.dictionary.labels_of(measure)) and not self.step.as_numbers

    def is_number(self, covariate: str) -> bool:
        """Return whether a covariate is used as a number, not as a group for each of its values."""
        is_coded = bool(self.table.dictionary.labels_of(covariate))
        return self.table[covariate].type in ("integer", "number") and not is_coded

    def list_needed(self, measure: str) -> list[str]:
        """Return the columns that a row needs to be compared, in the order in which missing ones are looked for."""
        others = [self.step.against] if self.step.against else self.covariates
        return [name for name in (self.step.between, measure, *others) if name]

    @property
    def groups(self) -> list[str]:
        """The columns whose values make the cells in which numbers are added up."""
        between = [self.step.between] if self.step.between else []
        return between + [name for name in self.covariates if not self.is_number(name)]

    @property
    def others(self) -> list[str]:
        """The numbers beside each measure."""
        return [self.step.against] if self.step.against else [name for name in self.covariates if self.is_number(name)]


@dataclass(frozen=True)
class MeasureSurvey:
    """What is known of one measure."""

    # Rows left out, by the first column that is missing there and the reason.
    left_out: Mapping[tuple[str, str], int] = field(default_factory=dict)
    # Sums of the other numbers and the measure (last) by the values of the groups; for pairs those of the measure by
    # side, and of both values and their difference by two sides.
    sums: Mapping[tuple[Any, ...], CrossProducts] = field(default_factory=dict)
    # Rows by side and code.
    codes: CountedRows | None = None
    # Cases by the number of sides at which they have a value.
    cases: Mapping[int, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Survey:
    """What is known of all rows."""

    rows: int
    first_rows: Mapping[Any, Extreme]  # of each side
    present: Mapping[str, int]  # cells with a value of each column that should be numbers
    measures: Mapping[str, MeasureSurvey]
    evidence: Mapping[str, CodeEvidence]  # of missing codes among the numbers


def survey(step: Compare, tables: Inputs) -> Survey:
    """Survey a table, or a part of it: of paired rows one that has all rows of its cases."""
    table = tables.get_one()
    choice = Choice.of(step, table)
    first_rows = find_first_rows(table, step.between) if step.between else {}
    names = [*choice.measures, *choice.others]
    present = {name: len(table) - table[name].missing_count for name in names}
    pairing = Pairing(choice) if step.paired_on else None
    measures = {
        name: survey_rows(choice, name) if pairing is None else pairing.survey_cases(name) for name in choice.measures
    }
    evidence = {name: CodeEvidence.of(table[name]) for name in names}
    return Survey(len(table), first_rows, present, measures, evidence)


def survey_rows(choice: Choice, measure: str) -> MeasureSurvey:
    """Add up the rows that have all values, and count the others."""
    table, kind = choice.table, choice.find_kind(measure)
    is_complete = np.ones(len(table), np.bool_)
    left_out: dict[tuple[str, str], int] = {}
    for name in choice.list_needed(measure):
        counts = table[name].take(np.flatnonzero(is_complete)).reason_counts()
        left_out |= {(name, reason): count for reason, count in counts.items()}
        is_complete &= ~table[name].is_missing
    rows = np.flatnonzero(is_complete)
    codes: CountedRows | None = None
    if kind == "codes":
        codes = CountedRows.of(table.only([choice.step.between, measure]).take(rows), [choice.step.between, measure])
        if table[measure].type != "boolean":  # the share of those that are true is drawn
            return MeasureSurvey(left_out, codes=codes)
    groups, keys = encode_groups(table, choice.groups, rows)
    items = [to_numbers(table[name].take(rows)) for name in (*choice.others, measure)]
    sums = CrossProducts.by_group(groups, len(keys), items)
    return MeasureSurvey(left_out, {key: total for key, total in zip(keys, sums, strict=True) if total.n}, codes)


def encode_groups(table: Table, names: Sequence[str], rows: Array) -> tuple[Array, list[tuple[Any, ...]]]:
    """Return the group of each of some rows, and the values of the groups.

    Raises UsageError if a column has too many of them.
    """
    if not names:
        return np.zeros(len(rows), np.int64), [()]
    groups = group_rows(table.only(names).take(rows), tuple(names))
    cells = [groups.values[name].cells() for name in names]
    for name, values in zip(names, cells, strict=True):
        if len({*values}) > MOST_CODES:
            raise UsageError(
                f"{name} has more than {MOST_CODES} values, too many for groups.", todo="Recode it first.",
                columns=[name],
            )  # fmt: skip
    return groups.codes, list(zip(*cells, strict=True))


def to_numbers(column: Column) -> Numbers:
    """Return the values of a column; of one that has no numbers any, since it is refused or has no value at all."""
    return column.values.astype(np.float64) if column.type in NUMERIC else np.zeros(len(column))


class Pairing:
    """Cases of a table, and their rows at each side."""

    def __init__(self, choice: Choice) -> None:
        """Pair the rows.

        Raises DataError if a case has several rows at one side.
        """
        table, names = choice.table, choice.step.paired_on
        self.table, self.cases = table, Cases(table, names)
        groups = group_rows(table, (choice.step.between,))
        self.sides = groups.values[choice.step.between].cells()
        # Of numbers and dates the smallest is the first side of the whole if it is there at all.
        self.is_first_known = table[choice.step.between].type != "string"
        inside = np.flatnonzero(groups.codes >= 0)
        cells = self.cases.of_row[inside] * groups.count + groups.codes[inside]
        counts = np.bincount(cells, minlength=len(self.cases) * groups.count)
        if (counts > 1).any():
            of_row = np.full(len(table), -1, np.int64)
            of_row[inside] = cells
            raise DataError(
                Words(
                    "{rows} rows repeat their case and {between}, so they cannot be paired.",
                    rows=int(counts[counts > 1].sum()), between=choice.step.between,
                ),
                where=show_repeated(table, [*names, choice.step.between], of_row, counts),
                todo="Correct the file, or aggregate first: one row for each case and occasion.",
            )  # fmt: skip
        row_of = np.full(len(counts), -1, np.int64)
        row_of[cells] = inside
        # Row of each case and side, -1 if there is none.
        self.row_of = row_of.reshape(len(self.cases), groups.count)

    def align(self, column: Column) -> Numbers:
        """Return the value of each case at each side, shape (cases, sides); NaN for none."""
        values = np.where(self.row_of >= 0, to_numbers(column)[self.row_of], np.nan)
        values[(self.row_of >= 0) & column.is_missing[self.row_of]] = np.nan
        return values

    def survey_cases(self, measure: str) -> MeasureSurvey:
        """Add up the values of each side, and the values and differences of each two sides."""
        values = self.align(self.table[measure])
        present = ~np.isnan(values)
        sums: dict[tuple[Any, ...], CrossProducts] = {
            (side,): CrossProducts.of([values[present[:, index], index]]) for index, side in enumerate(self.sides)
        }
        for first, second in combinations(range(len(self.sides)), 2):
            if first and self.is_first_known:
                break
            pair = values[present[:, first] & present[:, second]][:, [first, second]]
            items = [pair[:, 0].copy(), pair[:, 1].copy(), pair[:, 1] - pair[:, 0]]
            sums[self.sides[first], self.sides[second]] = CrossProducts.of(items)
        numbers, counts = np.unique(np.count_nonzero(present, axis=1), return_counts=True)
        return MeasureSurvey(sums=sums, cases=dict(zip(numbers.tolist(), counts.tolist(), strict=True)))
