"""Reshape from wide to long: settings, families of columns, the new columns."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import layout
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Combinable, Shown, combine
from lomrix.core.errors import DataError, Proposal, UsageError
from lomrix.core.rows.candidate_keys import find_candidate_keys
from lomrix.core.rows.occasions import Occasion, OccasionSetting, parse_occasion_settings
from lomrix.core.steps.reshape.entries import LongEntries
from lomrix.core.steps.reshape.families import Families, find_families, parse_templates, recall_families
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.table.column import DTYPES, FILLERS, Column, is_exact, join_types
from lomrix.core.table.header_guess import Guess, guess_families
from lomrix.core.table.notes import pluralize
from lomrix.core.table.numbers import Type
from lomrix.core.table.other_layout import OtherLayout, list_positions
from lomrix.core.table.pool import Pool, chain_pools
from lomrix.core.table.reasons import NO_OCCASION, Why, join_reasons, renumber_why
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import NO_ENTRY, Variable
from lomrix.core.wording import shorten_list

ROW_NUMBER = "row"
# Larger integers are not exact as floats.
MOST_EXACT = 2**53
TYPES: dict[type, Type] = {bool: "boolean", int: "integer", float: "number", str: "string"}
TYPES |= {datetime.datetime: "datetime", datetime.date: "date"}


@dataclass(frozen=True)
class Held:
    """What a column holds: cells with a value, and integers that are not exact as decimals, if they are beside such."""

    present: int
    inexact: int


@dataclass(frozen=True)
class WideSurvey(Combinable):
    """What must be known of all parts of a wide table: the number of its first row, and what its measures hold."""

    first_row: int
    held: Mapping[str, Held]

    def combine(self, later: WideSurvey) -> WideSurvey:
        """Return it for both parts."""
        return WideSurvey(min(self.first_row, later.first_row), combine(self.held, later.held))


@dataclass
class Gathering:
    """A table being reshaped from wide to long, or a part of it; `whole` is the survey of all parts."""

    step: ToLong
    wide: Table
    whole: WideSurvey | None = None

    def make_survey(self) -> WideSurvey:
        """Survey the columns of the measures."""
        held: dict[str, Held] = {}
        for columns in self.families.measures.values():
            is_mixed = len({self.wide[name].type for name in columns.values()}) > 1
            for name in columns.values():
                column = self.wide[name]
                inexact = is_mixed and column.type == "integer"
                count = int(np.count_nonzero(~is_exact(column.values))) if inexact else 0
                held[name] = Held(len(column) - column.missing_count, count)
        return WideSurvey(self.wide.first_row, held)

    @cached_property
    def survey(self) -> WideSurvey:
        """The survey of all parts."""
        return self.make_survey() if self.whole is None else self.whole

    # -------------------------------------------------------- what was asked for

    @cached_property
    def memory(self) -> OtherLayout | None:
        """The recorded long layout, if the settings ask for it."""
        memory = self.wide.dictionary.other_layout
        if memory is None or memory.layout != "long" or self.step.occasions:
            return None
        is_same = self.step.header in ((), memory.headers) and self.step.case in ((), memory.case)
        return memory if is_same and not self.step.value_name else None

    @cached_property
    def guessed(self) -> Guess | None:
        """The guess, if nothing is stated or recorded.

        Raises UsageError with the command to type, unless a guess was asked for.
        """
        if self.step.header or self.memory is not None:
            return None
        guess = guess_families([name for name in self.wide.names if name not in self.step.case])
        if guess is None:
            raise UsageError(
                "No ‹header› was given, and no columns look like one measure at several occasions.",
                where=f"columns are {shorten_list(self.wide.names)}",
                todo="State their names, such as ‹header={measure}_m{month}› for sleep_m3.",
            )
        if not self.step.guess:
            columns = [name for names in guess.measures.values() for name in names]
            raise UsageError(
                "No ‹header› was given.",
                where=f"{len(columns)} columns look like {pluralize(len(guess.measures), 'measure')}: "
                + shorten_list(columns, 8),
                todo=(
                    "Put the true times in, such as baseline=0,fu1=6,fu2=12, "
                    if any("=" in text for text in guess.occasions)
                    else ""
                )
                + "or use ‹guess› to accept this.",
                proposal=make_proposal(self.step.case or self._guess_case(guess), guess),
            )
        return guess

    @property
    def occasion_settings(self) -> tuple[OccasionSetting, ...]:
        """The stated occasions, or those guessed with the header."""
        if self.guessed is not None and not self.step.occasions:
            return parse_occasion_settings(self.guessed.occasions)
        return self.step.occasion_settings

    def _guess_case(self, guess: Guess) -> tuple[str, ...]:
        measured = {name for names in guess.measures.values() for name in names}
        others = [name for name in self.wide.names if name not in measured]
        return tuple(key for key in find_candidate_keys(self.wide.only(others)) if key in others)[:1] if others else ()

    @cached_property
    def case(self) -> tuple[str, ...]:
        """The columns that name the case."""
        if self.step.case:
            return self.step.case
        if self.memory is not None:
            return self.memory.case
        return self._guess_case(self.guessed) if self.guessed is not None else ()

    @cached_property
    def headers(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The header templates, and names of measures that no header holds."""
        if self.memory is not None:
            return self.memory.headers, self.memory.value_names
        if self.guessed is not None:
            return self.guessed.templates, self.step.value_name or self.guessed.value_names
        return self.step.header, self.step.value_name

    @cached_property
    def families(self) -> Families:
        """The repeated columns."""
        for name in self.case:
            self.wide[name]
        stated = self._choose_constants()
        candidates = [name for name in self.wide.names if name not in self.case and name not in stated]
        templates = parse_templates(*self.headers)
        if self.memory is not None:
            recorded = {position.column for position in self.memory.places}
            # A column that was in the long table under its own name is a constant, even if the template fits.
            others = [name for name in candidates if name not in recorded and name not in self.memory.order]
            if not any(template.find_readings(name) for template, _ in templates for name in others):
                return recall_families(self.memory, candidates)
        return find_families(candidates, templates, self.occasion_settings, self.wide.dictionary)

    def _choose_constants(self) -> list[str]:
        if not self.step.constant:
            return []
        return choose_columns(self.step.constant, self.wide.types(), self.wide.name)

    @cached_property
    def measured(self) -> set[str]:
        """The columns of measures."""
        return {name for columns in self.families.measures.values() for name in columns.values()}

    @cached_property
    def constants(self) -> list[str]:
        """The columns that are carried, beside the case."""
        others = [name for name in self.wide.names if name not in self.measured and name not in self.case]
        stated = self._choose_constants()
        return [name for name in others if name in stated] if stated else others

    @property
    def left_out(self) -> list[str]:
        """The columns that are neither measured nor carried."""
        used = {*self.measured, *self.constants, *self.case}
        return [name for name in self.wide.names if name not in used]

    @property
    def times(self) -> int:
        """Number of occasions."""
        return len(self.families.occasions)

    # ----------------------------------------------------------------- columns

    def _gather_measure(self, measure: str) -> Column:
        """Gather a measure over all cases and occasions, without the rows left out."""
        by_occasion = self.families.measures[measure]
        names = [by_occasion.get(occasion) for occasion in self.families.occasions]
        type_ = self._choose_type(by_occasion) or self._refuse_types(measure, by_occasion)
        if type_ == "number":
            self._require_exact(by_occasion)
        columns = [None if name is None else self.wide[name].widen(type_) for name in names]
        rows = len(self.wide)
        reasons = join_reasons(*(column.reasons for column in columns if column is not None))
        if None in columns:
            reasons = join_reasons(reasons, (NO_OCCASION,))
        why = None
        if None in columns or any(column is not None and column.why is not None for column in columns):
            present = np.zeros(rows, np.uint8)
            parts = [
                None
                if column is None
                else present
                if column.why is None
                else renumber_why(column.why, column.reasons, reasons)
                for column in columns
            ]
            no_occasion = reasons.index(NO_OCCASION) + 1 if None in columns else 0
            why = layout.interleave_columns(parts, rows, no_occasion, np.uint8, self.dropped_positions)
        if type_ == "string":
            return self._gather_texts(columns, why, reasons)
        arrays = [None if column is None else column.values for column in columns]
        values = layout.interleave_columns(arrays, rows, FILLERS[type_], DTYPES[type_], self.dropped_positions)
        # The parts already hold their fillers.
        return Column(type_, values, why, reasons if why is not None else ())

    def _choose_type(self, by_occasion: dict[Occasion, str]) -> Type | None:
        """Return the type of a measure over its occasions, in all parts; None if there is none."""
        held = {name: self.survey.held[name] for name in by_occasion.values()}
        types = {self.wide[name].type for name, values in held.items() if values.present}
        first = self.wide[next(iter(held))].type
        return join_types(types, first, lambda: not any(values.inexact for values in held.values()))

    def _require_exact(self, by_occasion: dict[Occasion, str]) -> None:
        """Stop if an integer would lose digits as a float."""
        for name in by_occasion.values():
            column = self.wide[name]
            if column.type != "integer":
                continue
            rows = np.flatnonzero(np.abs(column.values) > MOST_EXACT)
            if len(rows):
                (number,) = self.wide.number_rows(rows[:1])
                raise DataError(
                    f"{name} holds whole numbers that would lose digits among decimals.",
                    where=Shown([(number, f"row {number}: {column.values[rows[0]]}")], len(rows), most=1),
                    todo=f"If they are ids, use ‹type={name}=string›.",
                )

    def _gather_texts(self, columns: list[Column | None], why: Why | None, reasons: tuple[str, ...]) -> Column:
        pool = Pool.of([])
        arrays: list[npt.NDArray[np.int32] | None] = []
        for column in columns:
            if column is None:
                arrays.append(None)
                continue
            pool, start = chain_pools(pool, column.strings)
            arrays.append(np.where(column.values < 0, -1, column.values + start).astype(np.int32))
        positions = layout.interleave_columns(arrays, len(self.wide), -1, np.int32, self.dropped_positions)
        return Column.of_strings(positions, pool, why, reasons)

    def _refuse_types(self, measure: str, by_occasion: dict[Occasion, str]) -> Type:
        types = {name: self.wide[name].type for name in by_occasion.values()}
        texts = [name for name, type_ in types.items() if type_ == "string"]
        raise DataError(
            f"The measure {measure} is not of one type over its occasions.",
            where=", ".join(f"{name} is {type_}" for name, type_ in types.items()),
            todo=f"Correct the cells that keep {', '.join(texts) or 'one of them'} from being numbers "
            "(check lists them), or declare them as missing codes in the dictionary.",
            columns=list(types),
        )

    # -------------------------------------------------------------------- rows

    @cached_property
    def is_empty(self) -> npt.NDArray[np.bool_]:
        """True where nothing was measured, shape (occasions, rows of the wide table)."""
        return self._hold_everywhere(lambda column: column.is_missing)

    @cached_property
    def is_never(self) -> npt.NDArray[np.bool_]:
        """True where no long table had a row: all measures are missing for no-occasion."""
        return self._hold_everywhere(
            lambda column: (
                column.why == column.reasons.index(NO_OCCASION) + 1
                if column.why is not None and NO_OCCASION in column.reasons
                else np.zeros(len(column), np.bool_)
            )
        )

    def _hold_everywhere(self, holds: Callable[[Column], npt.NDArray[np.bool_]]) -> npt.NDArray[np.bool_]:
        """Return where something holds for all measures with a column."""
        result = np.ones((self.times, len(self.wide)), np.bool_)
        for index, occasion in enumerate(self.families.occasions):
            for by_occasion in self.families.measures.values():
                if occasion in by_occasion:
                    result[index] &= holds(self.wide[by_occasion[occasion]])
        return result

    @cached_property
    def is_dropped(self) -> npt.NDArray[np.bool_]:
        """True where a row is left out."""
        return self.is_never if self.step.keep_empty else self.is_empty

    @cached_property
    def dropped_positions(self) -> npt.NDArray[np.int64] | None:
        """Positions of the rows left out among all cases and occasions; None if there are none."""
        if not self.is_dropped.any():
            return None
        occasion_indexes, cases = np.nonzero(self.is_dropped)
        return np.sort(cases * self.times + occasion_indexes)

    # ------------------------------------------------------------------- table

    def make_table(self) -> Table:
        """Return the long table: case, occasions, constants, measures."""
        makers = self._list_makers()
        columns = dict(zip(makers, map_in_threads(lambda make: make(), makers.values()), strict=True))
        dictionary = LongEntries(
            self.wide.dictionary, self.families, self.memory, self.step.other_labels
        ).make_dictionary()
        if self.memory is not None:
            columns = {name: columns[name] for name in self.memory.order_names(list(columns))}
        types = {name: columns[name].type for name in self.families.names}
        dictionary = dictionary.for_columns(columns).with_other_layout(self._record_layout(dictionary.variables, types))
        numbers = self.wide.row_numbers
        return Table(
            columns, dictionary, name=self.wide.name,
            row_numbers=None if numbers is None else np.repeat(numbers, self._times_of_rows),
        )  # fmt: skip

    @property
    def _times_of_rows(self) -> int | Array:
        """How many rows each row becomes: a number for all, or one for each."""
        if self.dropped_positions is None:
            return self.times
        return np.asarray(self.times - np.count_nonzero(self.is_dropped, axis=0))

    def _list_makers(self) -> dict[str, Callable[[], Column]]:
        """Return how each column is made; names are checked before any work."""
        rows = len(self.wide)
        times = self._times_of_rows
        makers: dict[str, Callable[[], Column]] = {}

        def add(name: str, role: str, make: Callable[[], Column]) -> None:
            require_new_name(name, makers, f"{role} {name}")
            makers[name] = make

        if not self.case:
            numbers = self.wide.find_row_numbers(np.arange(rows)) - self.survey.first_row + 1
            add(ROW_NUMBER, "the row number", lambda: Column.of("integer", np.repeat(numbers, times)))
        for name in self.case:
            add(name, "the case", partial(self.wide[name].repeat, times))
        for index, name in enumerate(self.families.names):
            add(name, "the occasion", partial(self._make_occasion, index))
        for name in self.constants:
            add(name, "the constant", partial(self.wide[name].repeat, times))
        for name in self.families.measures:
            add(name, "the measure", partial(self._gather_measure, name))
        return makers

    def _make_occasion(self, index: int) -> Column:
        """The column of one occasion's values."""
        name = self.families.names[index]
        values = [occasion[index] for occasion in self.families.occasions]
        type_ = self.memory.types.get(name) if self.memory is not None else None
        column = make_occasion_column(values, type_)
        repeated = layout.tile_values(column.values, len(self.wide))
        repeated = (
            repeated if self.dropped_positions is None else layout.drop_positions(repeated, self.dropped_positions)
        )
        return Column(column.type, repeated, None, (), column.pool)

    def _record_layout(self, variables_made: Mapping[str, Variable], occasion_types: dict[str, Type]) -> OtherLayout:
        """Record the wide layout, to restore it."""
        dictionary = self.wide.dictionary
        entries = {name: dictionary.of(name) for name in self.wide.names if name in self.measured}
        entries = {name: entry for name, entry in entries.items() if entry != NO_ENTRY}
        lists = {entry.codes for entry in entries.values() if entry.codes is not None}
        headers, value_names = self.headers
        return OtherLayout(
            layout="wide",
            case=self.case,
            occasions=self.families.names,
            headers=headers,
            value_names=value_names,
            order=tuple(self.wide.names),
            places=list_positions(self.families.measures, self.families.occasions),
            types={name: self.wide[name].type for name in self.wide.names if name in self.measured} | occasion_types,
            variables=entries,
            codes={name: dict(dictionary.codes[name]) for name in sorted(lists) if name in dictionary.codes},
            made={name: variables_made[name] for name in self.families.measures if name in variables_made},
        )


def make_proposal(case: tuple[str, ...], guess: Guess) -> Proposal:
    """Return the step that would use the guess."""
    return Proposal("to-long", guess.settings(case))


def make_occasion_column(values: Sequence[Any], type_: Type | None = None) -> Column:
    """Return one cell for each value; integers and decimals together are numbers."""
    kinds = {TYPES[type(value)] for value in values}
    column_type = type_ or (kinds.pop() if len(kinds) == 1 else "number")
    if column_type == "string":
        distinct = list(dict.fromkeys(values))
        index_of = {text: index for index, text in enumerate(distinct)}
        return Column.of_strings(np.array([index_of[value] for value in values], np.int32), Pool.of(distinct))
    return Column.of_cells(column_type, values)
