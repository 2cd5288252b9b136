"""A table on its way from long to wide: what was asked for, the names of the new columns, the columns."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.layout import side_by_side
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.column_roles import Roles
from lomrix.core.steps.reshape.families import templates_of
from lomrix.core.steps.reshape.repeated_rows import Reduced, reduced
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_entries import WideEntries
from lomrix.core.table.column import FILLERS, Column
from lomrix.core.table.header import MEASURE, HeaderTemplate, occasion_text
from lomrix.core.table.notes import counted
from lomrix.core.table.other_layout import OtherLayout, places_of, plain_value
from lomrix.core.table.reasons import NO_OCCASION, joined_reasons
from lomrix.core.table.table import Table
from lomrix.core.table.types import Type
from lomrix.core.table.variable import NOTHING_KNOWN
from lomrix.core.wording import some_of

# The column that numbers rows where a wide table had no column for the case.
ROW_NUMBER = "row"
MOST_SHOWN = 4


@dataclass
class Spreading:
    """One table on its way from long to wide."""

    step: ToWide
    long: Table

    # -------------------------------------------------------- what was asked for

    @cached_property
    def memory(self) -> OtherLayout | None:
        """What is remembered of the wide layout, where that is what is asked for."""
        memory = self.long.dictionary.other_layout
        if memory is None or memory.layout != "wide":
            return None
        case = memory.case or (ROW_NUMBER,)
        same = self.step.case in ((), case) and set(self.step.occasion) in (set(), set(memory.occasions))
        same = same and ((self.step.header,) == memory.headers or not self.step.header)
        have = set(self.long.names)
        return memory if same and have.issuperset(case) and have.issuperset(memory.occasions) else None

    @cached_property
    def case(self) -> tuple[str, ...]:
        """The columns that name the case."""
        if self.step.case:
            return self.step.case
        if self.memory is not None:
            return self.memory.case or (ROW_NUMBER,)
        raise UsageError("No ‹case› was given.", todo="Say which column names the case, such as ‹case=pid›.")

    @cached_property
    def occasions(self) -> tuple[str, ...]:
        """The columns that name the occasion."""
        if self.step.occasion or self.memory is not None:
            names = self.memory.occasions if self.memory is not None else self.step.occasion
            both = [name for name in names if name in self.case]
            if both:
                raise UsageError(f"{both[0]} cannot name both case and occasion.", todo="Check ‹case› and ‹occasion›.")
            return names
        raise UsageError(
            "No ‹occasion› was given.", todo="Say which column names the occasion, such as ‹occasion=month›."
        )

    @cached_property
    def templates(self) -> tuple[HeaderTemplate, ...]:
        """The header templates; more than one only where they are remembered."""
        if self.memory is not None:
            return tuple(template for template, _ in templates_of(self.memory.headers, self.memory.value_names))
        if not self.step.header:
            braces = "_".join("{" + name + "}" for name in self.occasions)
            raise UsageError(
                "No ‹header› was given.", todo=f"Say how the new columns are named: ‹header={{measure}}_{braces}›."
            )
        template = HeaderTemplate.parsed(self.step.header, measure_needed=False)
        if set(template.occasions) != set(self.occasions):
            raise UsageError(
                f'The header template "{template.text}" does not name the occasion {", ".join(self.occasions)}.',
                todo="Each occasion column stands in the template, in braces: {measure}_m{month}.",
            )
        return (template,)

    @cached_property
    def roles(self) -> Roles:
        """Which columns are spread, which are constants, and which are left out."""
        for name in (*self.case, *self.occasions):
            self.long[name]
        return Roles(self.step, self.long, self.grid, self.memory)

    @cached_property
    def grid(self) -> Grid:
        """Where each row stands."""
        return Grid(self.long, self.case, self.occasions, self.memory)

    # ------------------------------------------------------------------- names

    @cached_property
    def names(self) -> dict[str, dict[Occasion, str]]:
        """For each measure the name of its column by occasion.

        Raises
        ------
        UsageError
            Where several measures would share their names.
        DataError
            Where two columns would have one name, or there would be too many.
        """
        measures = self.roles.spread
        known: dict[tuple[str, tuple[str, ...]], str] = {}
        if self.memory is not None:
            known = {(place.measure, tuple(map(occasion_text, place.at))): place.column for place in self.memory.places}
        count = len(measures) * self.grid.times + len(self.roles.constants) + len(self.case)
        if count > self.step.most_columns:
            raise DataError(
                f"The wide table would have {count:,} columns.",
                where=f"{counted(len(measures), 'measure', 'measures')} x {self.grid.times:,} occasions of "
                f"{', '.join(self.occasions)}",
                todo=f"Check ‹occasion›, or say ‹most_columns={count}› if that is what you want.",
            )
        names = {
            measure: {
                occasion: known.get((measure, tuple(map(occasion_text, map(plain_value, occasion)))))
                or self._written(measure, occasion)
                for occasion in self.grid.occasions
            }
            for measure in measures
        }
        self._require_different(names)
        return names

    def _written(self, measure: str, occasion: Occasion) -> str:
        with_measure = [template for template in self.templates if MEASURE in template.parts[1::2]]
        if not with_measure and len(self.roles.spread) > 1:
            raise UsageError(
                f'The header template "{self.templates[0].text}" has no {{measure}}, but several columns are spread: '
                f"{some_of(self.roles.spread)}.",
                todo="Put {measure} into the template, or name one column with ‹spread› and the constants with "
                "‹constant›; the others are then left out.",
            )
        template = (with_measure or self.templates)[0]
        return template.written(measure, dict(zip(self.occasions, occasion, strict=True)))

    def _require_different(self, names: dict[str, dict[Occasion, str]]) -> None:
        every = [*self.case, *self.roles.constants, *(name for at in names.values() for name in at.values())]
        twice = [name for name, count in Counter(every).items() if count > 1]
        if twice:
            raise DataError(
                f"Two columns would be named {twice[0]}.",
                where=some_of(twice, MOST_SHOWN),
                todo="Write a header template that keeps them apart, such as {measure}_m{month}.",
            )

    # ------------------------------------------------------------------- table

    @cached_property
    def reduction(self) -> Reduced | None:
        """What came of repeated rows; None where there are none."""
        if self.step.repeated == "stop":
            self.grid.require_no_repetition()
        rows = self.grid.repeated
        if not len(rows):
            return None
        return reduced(self.long, self.grid.cells, rows, self.roles.spread, self.step.repeated)

    @cached_property
    def settled(self) -> Table:
        """The long table with one row for each case and occasion."""
        return self.long if self.reduction is None else self.reduction.table

    @cached_property
    def settled_grid(self) -> Grid:
        """Where the rows of the settled table stand."""
        if self.reduction is None:
            return self.grid
        return Grid(self.settled, self.case, self.occasions, self.memory)

    def table(self) -> Table:
        """The wide table: case, constants, and a column for each measure and occasion."""
        names, labels = self.names, self.roles.labels
        rows = self.grid.cases.firsts
        columns = {name: self.long[name].take(rows) for name in self.case}
        columns |= {name: self.long[name].take(self.roles.rows_of_constant(name)) for name in self.roles.constants}
        if self.memory is not None and not self.memory.case:
            del columns[ROW_NUMBER]
        columns |= self._ordered(names)
        if self.memory is not None and not self.step.order:
            columns = {name: columns[name] for name in self.memory.ordered(list(columns))}
        made = {
            measure: {occasion: name for occasion, name in at.items() if name in columns}
            for measure, at in names.items()
        }
        dictionary = WideEntries(self.long.dictionary, self.occasions, self.memory, labels).dictionary(made)
        dictionary = dictionary.for_columns(columns)
        memory = self._remembered(made, {name: dictionary.of(name) for at in made.values() for name in at.values()})
        return Table(columns, dictionary.with_other_layout(memory), name=self.long.name)

    @cached_property
    def spread_columns(self) -> dict[str, dict[str, Column]]:
        """For each measure its columns by name; those that no case has at their occasion are not among them."""
        return {measure: self._spread(measure, at) for measure, at in self.names.items()}

    def _ordered(self, names: dict[str, dict[Occasion, str]]) -> dict[str, Column]:
        if self.step.order != "occasion":
            return {name: column for columns in self.spread_columns.values() for name, column in columns.items()}
        return {
            at[occasion]: self.spread_columns[measure][at[occasion]]
            for occasion in self.grid.occasions
            for measure, at in names.items()
            if at[occasion] in self.spread_columns[measure]
        }

    def _spread(self, measure: str, at: dict[Occasion, str]) -> dict[str, Column]:
        """A measure's columns; one that no case has at its occasion is not made."""
        column, place = self.settled[measure], self.settled_grid
        reasons = column.reasons if place.is_full else joined_reasons(column.reasons, (NO_OCCASION,))
        if place.is_full and column.why is None:
            whys, absent = None, 0
        else:
            absent = reasons.index(NO_OCCASION) + 1 if NO_OCCASION in reasons else 0
            why = np.zeros(len(column), np.uint8) if column.why is None else column.why
            whys = self._side_by_side(why, absent)
        values = self._side_by_side(column.values, FILLERS[column.type])
        remembered = self.memory.types if self.memory is not None else {}
        columns = {}
        for number, name in enumerate(at.values()):
            why_here = None if whys is None or not whys[number].any() else whys[number]
            if why_here is not None and name not in remembered and (why_here == absent).all():
                continue
            own = Column(column.type, values[number], why_here, reasons if why_here is not None else (), column.pool)
            columns[name] = narrowed(own, remembered.get(name))
        return columns

    def _side_by_side(self, values: npt.NDArray[np.generic], filler: object) -> npt.NDArray[np.generic]:
        place = self.settled_grid
        cells = None if place.is_full else place.cells
        return side_by_side(values, cells, len(place.cases), place.times, filler)

    @cached_property
    def never_made(self) -> list[str]:
        """Columns that would hold nothing but that there was no occasion."""
        return [
            name
            for measure, at in self.names.items()
            for name in at.values()
            if name not in self.spread_columns[measure]
        ]

    def _remembered(self, made: dict[str, dict[Occasion, str]], entries: dict[str, object]) -> OtherLayout:
        """The long layout, for the way back."""
        dictionary = self.long.dictionary
        own = [name for name in (*made, *self.occasions) if dictionary.of(name) != NOTHING_KNOWN]
        variables = {name: dictionary.of(name) for name in own}
        lists = sorted({entry.codes for entry in variables.values() if entry.codes is not None} & set(dictionary.codes))
        bare = all(MEASURE not in template.parts[1::2] for template in self.templates)
        headers = tuple(template.text for template in self.templates)
        value_names = self.memory.value_names if self.memory is not None else tuple(made)[: 1 if bare else 0]
        return OtherLayout(
            layout="long",
            case=self.case,
            occasions=self.occasions,
            headers=headers,
            value_names=value_names,
            order=tuple(self.long.names),
            places=places_of(made, self.grid.occasions),
            types={name: self.long[name].type for name in (*made, *self.occasions)},
            variables=variables,
            codes={name: dict(dictionary.codes[name]) for name in lists},
            made={name: entry for name, entry in entries.items() if entry != NOTHING_KNOWN},
        )


def narrowed(column: Column, type_: Type | None) -> Column:
    """A column as the type it once had, where no cell speaks against it."""
    if type_ is None or type_ == column.type:
        return column
    if column.missing_count == len(column):
        return column.widened(type_)
    if (column.type, type_) == ("number", "integer"):
        present = np.nan_to_num(column.values)
        if (present == np.floor(present)).all() and np.abs(present).max(initial=0) <= 2**53:
            return Column.of("integer", present.astype(np.int64), column.why, column.reasons)
    if (column.type, type_) == ("datetime", "date"):
        days = column.values.astype("datetime64[D]")
        if (days.astype(column.values.dtype)[~column.is_missing] == column.values[~column.is_missing]).all():
            return Column.of("date", days, column.why, column.reasons)
    return column
