"""A table on its way from wide to long: what was asked for, which columns are families, the new columns."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import layout
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError, Proposal, UsageError
from lomrix.core.rows.candidate_keys import candidate_keys
from lomrix.core.rows.occasions import Occasion, Wish, wishes_of
from lomrix.core.steps.reshape.families import Families, families_of, remembered_families, templates_of
from lomrix.core.steps.reshape.long_entries import LongEntries
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.table.column import DTYPES, FILLERS, Column, common_type
from lomrix.core.table.header_guess import Guess, guessed_families
from lomrix.core.table.notes import counted
from lomrix.core.table.other_layout import OtherLayout, places_of
from lomrix.core.table.pool import Pool, chained
from lomrix.core.table.reasons import NO_OCCASION, Why, joined_reasons, renumbered
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.types import Type
from lomrix.core.table.variable import NOTHING_KNOWN, Variable
from lomrix.core.wording import some_of

ROW_NUMBER = "row"
# Whole numbers beyond this are not exact among decimals.
MOST_EXACT = 2**53
TYPES: dict[type, Type] = {bool: "boolean", int: "integer", float: "number", str: "string"}
TYPES |= {datetime.datetime: "datetime", datetime.date: "date"}


@dataclass
class Turn:
    """One table on its way from wide to long."""

    step: ToLong
    wide: Table

    # -------------------------------------------------------- what was asked for

    @cached_property
    def memory(self) -> OtherLayout | None:
        """What is remembered of the long layout, where that is what is asked for."""
        memory = self.wide.dictionary.other_layout
        if memory is None or memory.layout != "long" or self.step.occasions:
            return None
        same = self.step.header in ((), memory.headers) and self.step.case in ((), memory.case)
        return memory if same and not self.step.value_name else None

    @cached_property
    def guessed(self) -> Guess | None:
        """The guess, where nothing was said and nothing is remembered.

        Raises
        ------
        UsageError
            With the command to type, unless the guess was asked for.
        """
        if self.step.header or self.memory is not None:
            return None
        guess = guessed_families([name for name in self.wide.names if name not in self.step.case])
        if guess is None:
            raise UsageError(
                "No ‹header› was given, and no columns look like one measure at several occasions.",
                where=f"columns are {some_of(self.wide.names)}",
                todo="Say how they are named, such as ‹header={measure}_m{month}› for sleep_m3.",
            )
        if not self.step.guess:
            columns = [name for found in guess.measures.values() for name in found]
            raise UsageError(
                "No ‹header› was given.",
                where=f"{len(columns)} columns look like {counted(len(guess.measures), 'measure', 'measures')}: "
                + some_of(columns, 8),
                todo="or say ‹guess› to take that.",
                proposal=proposal(self.step.case or self._guessed_case(guess), guess),
            )
        return guess

    @property
    def wishes(self) -> tuple[Wish, ...]:
        """What was said of the occasions, or guessed with the header."""
        if self.guessed is not None and not self.step.occasions:
            return wishes_of(self.guessed.occasions)
        return self.step.wishes

    def _guessed_case(self, guess: Guess) -> tuple[str, ...]:
        measured = {name for found in guess.measures.values() for name in found}
        rest = [name for name in self.wide.names if name not in measured]
        return tuple(key for key in candidate_keys(self.wide.only(rest)) if key in rest)[:1] if rest else ()

    @cached_property
    def case(self) -> tuple[str, ...]:
        """The columns that name the case."""
        if self.step.case:
            return self.step.case
        if self.memory is not None:
            return self.memory.case
        return self._guessed_case(self.guessed) if self.guessed is not None else ()

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
        asked = self._asked_constants()
        free = [name for name in self.wide.names if name not in self.case and name not in asked]
        templates = templates_of(*self.headers)
        if self.memory is not None:
            known = {place.column for place in self.memory.places}
            # A column that stood in the long table under its own name is carried, whatever the template fits.
            others = [name for name in free if name not in known and name not in self.memory.order]
            if not any(template.readings(name) for template, _ in templates for name in others):
                return remembered_families(self.memory, free)
        return families_of(free, templates, self.wishes, self.wide.dictionary)

    def _asked_constants(self) -> list[str]:
        if not self.step.constant:
            return []
        return chosen_columns(self.step.constant, self.wide.types(), self.wide.name)

    @cached_property
    def measured(self) -> set[str]:
        """The columns that were turned."""
        return {name for columns in self.families.measures.values() for name in columns.values()}

    @cached_property
    def constants(self) -> list[str]:
        """The columns that are carried, beside the case."""
        rest = [name for name in self.wide.names if name not in self.measured and name not in self.case]
        asked = self._asked_constants()
        return [name for name in rest if name in asked] if asked else rest

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

    def _measure(self, measure: str) -> Column:
        """A measure over all cases and occasions, less the rows that are left out."""
        at = self.families.measures[measure]
        names = [at.get(occasion) for occasion in self.families.occasions]
        found = [self.wide[name] for name in names if name is not None]
        type_ = common_type(found) or self._refuse_types(measure, at)
        if type_ == "number":
            self._require_exact(at)
        columns = [None if name is None else self.wide[name].widened(type_) for name in names]
        rows = len(self.wide)
        reasons = joined_reasons(*(column.reasons for column in columns if column is not None))
        if None in columns:
            reasons = joined_reasons(reasons, (NO_OCCASION,))
        why = None
        if None in columns or any(column is not None and column.why is not None for column in columns):
            nothing = np.zeros(rows, np.uint8)
            parts = [
                None if one is None else nothing if one.why is None else renumbered(one.why, one.reasons, reasons)
                for one in columns
            ]
            absent = reasons.index(NO_OCCASION) + 1 if None in columns else 0
            why = layout.interleaved(parts, rows, absent, np.uint8, self.gone)
        if type_ == "string":
            return self._measure_of_texts(columns, why, reasons)
        arrays = [None if one is None else one.values for one in columns]
        values = layout.interleaved(arrays, rows, FILLERS[type_], DTYPES[type_], self.gone)
        # The parts hold their fillers already.
        return Column(type_, values, why, reasons if why is not None else ())

    def _require_exact(self, at: dict[Occasion, str]) -> None:
        """Stop where a whole number would lose digits among decimals."""
        for name in at.values():
            column = self.wide[name]
            if column.type == "integer" and np.abs(column.values).max(initial=0) > MOST_EXACT:
                row = int(np.abs(column.values).argmax())
                raise DataError(
                    f"{name} holds whole numbers too long to stand among decimals without losing digits.",
                    where=f"row {row + self.wide.first_row}: {column.values[row]}",
                    todo=f"If they are ids, say ‹type={name}=string›.",
                )

    def _measure_of_texts(self, columns: list[Column | None], why: Why | None, reasons: tuple[str, ...]) -> Column:
        pool = Pool.of([])
        arrays: list[npt.NDArray[np.int32] | None] = []
        for column in columns:
            if column is None:
                arrays.append(None)
                continue
            pool, start = chained(pool, column.strings)
            arrays.append(np.where(column.values < 0, -1, column.values + start).astype(np.int32))
        positions = layout.interleaved(arrays, len(self.wide), -1, np.int32, self.gone)
        return Column.of_strings(positions, pool, why, reasons)

    def _refuse_types(self, measure: str, at: dict[Occasion, str]) -> Type:
        types = {name: self.wide[name].type for name in at.values()}
        texts = [name for name, type_ in types.items() if type_ == "string"]
        raise DataError(
            f"The measure {measure} is not of one type over its occasions.",
            where=", ".join(f"{name} is {type_}" for name, type_ in types.items()),
            todo=f"Mend the cells that keep {', '.join(texts) or 'one of them'} from being numbers "
            "(check names them), or name them as missing codes in the dictionary.",
        )

    # -------------------------------------------------------------------- rows

    @cached_property
    def empty(self) -> npt.NDArray[np.bool_]:
        """True where nothing was measured: one row for each occasion, one column for each row of the wide table."""
        return self._throughout(lambda column: column.is_missing)

    @cached_property
    def never(self) -> npt.NDArray[np.bool_]:
        """True where no long table held a row: all measures are missing for want of the occasion."""
        return self._throughout(
            lambda column: (
                column.why == column.reasons.index(NO_OCCASION) + 1
                if column.why is not None and NO_OCCASION in column.reasons
                else np.zeros(len(column), np.bool_)
            )
        )

    def _throughout(self, holds: Callable[[Column], npt.NDArray[np.bool_]]) -> npt.NDArray[np.bool_]:
        """True where something holds of all measures; a measure without a column is missing for want of it."""
        true = np.ones((self.times, len(self.wide)), np.bool_)
        for place, occasion in enumerate(self.families.occasions):
            for at in self.families.measures.values():
                if occasion in at:
                    true[place] &= holds(self.wide[at[occasion]])
        return true

    @cached_property
    def dropped(self) -> npt.NDArray[np.bool_]:
        """True where a row is left out."""
        return self.never if self.step.keep_empty else self.empty

    @cached_property
    def gone(self) -> npt.NDArray[np.int64] | None:
        """Places of the rows that are left out, among all cases and occasions; None where there are none."""
        if not self.dropped.any():
            return None
        places, cases = np.nonzero(self.dropped)
        return np.sort(cases * self.times + places)

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """The long table: case, occasions, constants, measures."""
        made = self._made()
        with ThreadPoolExecutor() as workers:
            columns = dict(zip(made, workers.map(lambda make: make(), made.values()), strict=True))
        dictionary = LongEntries(self.wide.dictionary, self.families, self.memory, self.step.other_labels).dictionary()
        if self.memory is not None:
            columns = {name: columns[name] for name in self.memory.ordered(list(columns))}
        types = {name: columns[name].type for name in self.families.names}
        dictionary = dictionary.for_columns(columns).with_other_layout(self._remembered(dictionary.variables, types))
        return Table(columns, dictionary, name=self.wide.name)

    def _made(self) -> dict[str, Callable[[], Column]]:
        """How each column of the long table is made; their names are held against each other before any work."""
        rows = len(self.wide)
        times: int | Array = self.times
        if self.gone is not None:
            times = self.times - np.count_nonzero(self.dropped, axis=0)
        made: dict[str, Callable[[], Column]] = {}

        def take(name: str, what: str, make: Callable[[], Column]) -> None:
            require_free(name, made, f"{what} {name}")
            made[name] = make

        if not self.case:
            take(ROW_NUMBER, "the row number", lambda: Column.of("integer", np.repeat(np.arange(1, rows + 1), times)))
        for name in self.case:
            take(name, "the case", partial(self.wide[name].repeated, times))
        for place, name in enumerate(self.families.names):
            take(name, "the occasion", partial(self._occasion, place))
        for name in self.constants:
            take(name, "the constant", partial(self.wide[name].repeated, times))
        for name in self.families.measures:
            take(name, "the measure", partial(self._measure, name))
        return made

    def _occasion(self, place: int) -> Column:
        """The column of one occasion's values."""
        name = self.families.names[place]
        values = [occasion[place] for occasion in self.families.occasions]
        type_ = self.memory.types.get(name) if self.memory is not None else None
        column = column_of_occasions(values, type_)
        over = layout.tiled(column.values, len(self.wide))
        over = over if self.gone is None else layout.without(over, self.gone)
        return Column(column.type, over, None, (), column.pool)

    def _remembered(self, made: Mapping[str, Variable], occasion_types: dict[str, Type]) -> OtherLayout:
        """The wide layout, for the way back."""
        dictionary = self.wide.dictionary
        entries = {name: dictionary.of(name) for name in self.wide.names if name in self.measured}
        entries = {name: entry for name, entry in entries.items() if entry != NOTHING_KNOWN}
        lists = {entry.codes for entry in entries.values() if entry.codes is not None}
        headers, value_names = self.headers
        return OtherLayout(
            layout="wide",
            case=self.case,
            occasions=self.families.names,
            headers=headers,
            value_names=value_names,
            order=tuple(self.wide.names),
            places=places_of(self.families.measures, self.families.occasions),
            types={name: self.wide[name].type for name in self.wide.names if name in self.measured} | occasion_types,
            variables=entries,
            codes={name: dict(dictionary.codes[name]) for name in sorted(lists) if name in dictionary.codes},
            made={name: made[name] for name in self.families.measures if name in made},
        )


def proposal(case: tuple[str, ...], guess: Guess) -> Proposal:
    """The step that turns what the columns look like."""
    return Proposal("to-long", guess.settings(case))


def column_of_occasions(values: Sequence[Any], type_: Type | None = None) -> Column:
    """One cell for each value; integers and decimals together are numbers."""
    kinds = {TYPES[type(value)] for value in values}
    own = type_ or (kinds.pop() if len(kinds) == 1 else "number")
    if own == "string":
        distinct = list(dict.fromkeys(values))
        place = {text: at for at, text in enumerate(distinct)}
        return Column.of_strings(np.array([place[value] for value in values], np.int32), Pool.of(distinct))
    return Column.of_cells(own, values)
