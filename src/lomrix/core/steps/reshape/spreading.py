"""Reshape from long to wide: settings, names of the new columns, the columns."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.layout import spread_values
from lomrix.core.errors import DataError, Proposal, UsageError
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.column_roles import Roles
from lomrix.core.steps.reshape.entries import WideEntries
from lomrix.core.steps.reshape.families import parse_templates
from lomrix.core.steps.reshape.repeated_rows import Reduced, reduce_rows
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_survey import WideSurvey, make_survey, narrow
from lomrix.core.table.column import FILLERS, Column
from lomrix.core.table.header import MEASURE, HeaderTemplate, format_occasion
from lomrix.core.table.notes import pluralize
from lomrix.core.table.other_layout import OtherLayout, list_positions, to_plain_value
from lomrix.core.table.reasons import NO_OCCASION, join_reasons
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NO_ENTRY
from lomrix.core.wording import shorten_list

# The column that numbers rows where a wide table had no column for the case.
ROW_NUMBER = "row"
MOST_SHOWN = 4


@dataclass
class Spreading:
    """A long table being reshaped to wide, or a part of it; `whole` is the survey of all parts."""

    step: ToWide
    long: Table
    whole: WideSurvey | None = None

    @cached_property
    def survey(self) -> WideSurvey:
        """The survey of all parts."""
        return self.whole or make_survey(self.step, self.long, self.grid, self.memory)

    @property
    def of_no_rows(self) -> Spreading:
        """What holds for the whole, without any rows."""
        return replace(self, long=self.long.slice(0, 0), whole=self.survey)

    # -------------------------------------------------------- what was asked for

    @cached_property
    def memory(self) -> OtherLayout | None:
        """The recorded wide layout, if the settings ask for it."""
        memory = self.long.dictionary.other_layout
        if memory is None or memory.layout != "wide":
            return None
        case = memory.case or (ROW_NUMBER,)
        is_same = self.step.case in ((), case) and set(self.step.occasion) in (set(), set(memory.occasions))
        is_same = is_same and ((self.step.header,) == memory.headers or not self.step.header)
        names = set(self.long.names)
        return memory if is_same and names.issuperset(case) and names.issuperset(memory.occasions) else None

    @cached_property
    def case(self) -> tuple[str, ...]:
        """The columns that name the case."""
        if self.step.case:
            return self.step.case
        if self.memory is not None:
            return self.memory.case or (ROW_NUMBER,)
        raise UsageError("No ‹case› was given.", todo="Name the column of the case, such as ‹case=pid›.")

    @cached_property
    def occasions(self) -> tuple[str, ...]:
        """The columns that name the occasion."""
        if self.step.occasion or self.memory is not None:
            names = self.memory.occasions if self.memory is not None else self.step.occasion
            both = [name for name in names if name in self.case]
            if both:
                raise UsageError(f"{both[0]} cannot name both case and occasion.", todo="Check ‹case› and ‹occasion›.")
            return names
        raise UsageError("No ‹occasion› was given.", todo="Name the column of the occasion, such as ‹occasion=month›.")

    @cached_property
    def templates(self) -> tuple[HeaderTemplate, ...]:
        """The header templates; several only if they are recorded."""
        if self.memory is not None:
            return tuple(template for template, _ in parse_templates(self.memory.headers, self.memory.value_names))
        if not self.step.header:
            braces = "_".join("{" + name + "}" for name in self.occasions)
            header = f"{{measure}}_{braces}"
            raise UsageError(
                "No ‹header› was given.",
                todo="or choose other names for the new columns.",
                proposal=Proposal("to-wide", {**self.step.to_dict(), "header": header}),
            )
        template = HeaderTemplate.parse(self.step.header, measure_needed=False)
        if set(template.occasions) != set(self.occasions):
            raise UsageError(
                f'The header template "{template.text}" does not name the occasion {", ".join(self.occasions)}.',
                todo="The template needs each occasion column in braces: {measure}_m{month}.",
            )
        return (template,)

    @cached_property
    def roles(self) -> Roles:
        """Which columns are spread, which are constants, and which are left out."""
        return Roles(self.step, self.long, self.grid, self.memory, self.survey)

    @cached_property
    def grid(self) -> Grid:
        """The position of each row."""
        for name in (*self.case, *self.occasions):
            self.long[name]
        return Grid(self.long, self.case, self.occasions, self.memory, None if self.whole is None else self.whole.grid)

    # ------------------------------------------------------------------- names

    @cached_property
    def names(self) -> dict[str, dict[Occasion, str]]:
        """For each measure the name of its column by occasion.

        Raises UsageError if several measures would share names. Raises DataError if two columns would have one name, or
        there would be too many.
        """
        measures = self.roles.spread
        recorded: dict[tuple[str, tuple[str, ...]], str] = {}
        if self.memory is not None:
            recorded = {
                (position.measure, tuple(map(format_occasion, position.at))): position.column
                for position in self.memory.places
            }
        count = len(measures) * self.grid.times + len(self.roles.constants) + len(self.case)
        if count > self.step.most_columns:
            raise DataError(
                f"The wide table would have {count:,} columns.",
                where=f"{pluralize(len(measures), 'measure')} x {self.grid.times:,} occasions of "
                f"{', '.join(self.occasions)}",
                todo=f"Check ‹occasion›, or use ‹most_columns={count}› if this is intended.",
            )
        names = {
            measure: {
                occasion: recorded.get((measure, tuple(map(format_occasion, map(to_plain_value, occasion)))))
                or self._format_name(measure, occasion)
                for occasion in self.grid.occasions
            }
            for measure in measures
        }
        self._require_distinct(names)
        return names

    def _format_name(self, measure: str, occasion: Occasion) -> str:
        with_measure = [template for template in self.templates if MEASURE in template.parts[1::2]]
        if not with_measure and len(self.roles.spread) > 1:
            raise UsageError(
                f'The header template "{self.templates[0].text}" has no {{measure}}, but several columns are spread: '
                f"{shorten_list(self.roles.spread)}.",
                todo="Put {measure} into the template, or name one column with ‹spread› and the constants with "
                "‹constant›; the others are then left out.",
            )
        template = (with_measure or self.templates)[0]
        return template.format(measure, dict(zip(self.occasions, occasion, strict=True)))

    def _require_distinct(self, names: dict[str, dict[Occasion, str]]) -> None:
        all_names = [
            *self.case,
            *self.roles.constants,
            *(name for by_occasion in names.values() for name in by_occasion.values()),
        ]
        repeated = [name for name, count in Counter(all_names).items() if count > 1]
        if repeated:
            raise DataError(
                f"Two columns would be named {repeated[0]}.",
                where=shorten_list(repeated, MOST_SHOWN),
                todo="Use a header template that distinguishes them, such as {measure}_m{month}.",
            )

    # ------------------------------------------------------------------- table

    def check(self) -> None:
        """Stop if settings and data of the whole do not fit together."""
        self.names, self.roles.labels  # noqa: B018 both are checked when they are found
        if self.step.repeated == "stop":
            self.grid.require_no_repetition()

    @cached_property
    def reduction(self) -> Reduced | None:
        """The reduced repeated rows; None if the whole has none."""
        if not self.survey.grid.repeated:
            return None
        how, extents = self.step.repeated, self.survey.extents
        return reduce_rows(self.long, self.grid.cells, self.grid.repeated, self.roles.spread, how, extents)

    @cached_property
    def unique_rows(self) -> Table:
        """The long table with one row for each case and occasion."""
        return self.long if self.reduction is None else self.reduction.table

    @cached_property
    def unique_grid(self) -> Grid:
        """The positions of those rows."""
        if self.reduction is None:
            return self.grid
        return Grid(self.unique_rows, self.case, self.occasions, self.memory, self.survey.grid)

    def make_table(self) -> Table:
        """Return the wide table: case, constants, and a column for each measure and occasion."""
        self.check()
        names, labels = self.names, self.roles.labels
        rows = self.grid.cases.firsts
        columns = {name: self.long[name].take(rows) for name in self.case}
        columns |= {name: self.long[name].take(self.roles.find_constant_rows(name)) for name in self.roles.constants}
        if self.memory is not None and not self.memory.case:
            del columns[ROW_NUMBER]
        columns |= self._order_columns(names)
        if self.memory is not None and not self.step.order:
            columns = {name: columns[name] for name in self.memory.order_names(list(columns))}
        result = {
            measure: {occasion: name for occasion, name in by_occasion.items() if name in columns}
            for measure, by_occasion in names.items()
        }
        dictionary = WideEntries(self.long.dictionary, self.occasions, self.memory, labels).make_dictionary(result)
        dictionary = dictionary.for_columns(columns)
        memory = self._record_layout(
            result, {name: dictionary.of(name) for by_occasion in result.values() for name in by_occasion.values()}
        )
        numbers = None if self.whole is None else self.long.find_row_numbers(rows)
        return Table(columns, dictionary.with_other_layout(memory), name=self.long.name, row_numbers=numbers)

    @cached_property
    def spread_columns(self) -> dict[str, dict[str, Column]]:
        """For each measure its columns by name, without those that no case has."""
        return {measure: self._spread_measure(measure, by_occasion) for measure, by_occasion in self.names.items()}

    def _order_columns(self, names: dict[str, dict[Occasion, str]]) -> dict[str, Column]:
        if self.step.order != "occasion":
            return {name: column for columns in self.spread_columns.values() for name, column in columns.items()}
        return {
            by_occasion[occasion]: self.spread_columns[measure][by_occasion[occasion]]
            for occasion in self.grid.occasions
            for measure, by_occasion in names.items()
            if by_occasion[occasion] in self.spread_columns[measure]
        }

    def _spread_measure(self, measure: str, by_occasion: dict[Occasion, str]) -> dict[str, Column]:
        """Spread a measure into columns; one that no case has at its occasion is not made."""
        column, survey, made = self.unique_rows[measure], self.survey, set(self.made[measure])
        has_gaps = survey.grid.filled < survey.grid.cases * self.grid.times
        reasons = join_reasons(column.reasons, (NO_OCCASION,)) if has_gaps else column.reasons
        whys = None
        if column.why is not None or not self.unique_grid.is_full:
            absent = reasons.index(NO_OCCASION) + 1 if NO_OCCASION in reasons else 0
            whys = self._spread_array(np.zeros(len(column), np.uint8) if column.why is None else column.why, absent)
        values = self._spread_array(column.values, FILLERS[column.type])
        recorded_types = self.memory.types if self.memory is not None else {}
        columns = {}
        for number, (occasion, name) in enumerate(by_occasion.items()):
            if name not in made:
                continue
            why = None if whys is None or not whys[number].any() else whys[number]
            part = Column(column.type, values[number], why, reasons if why is not None else (), column.pool)
            columns[name] = narrow(part, recorded_types.get(name), survey.held.get(measure, {}).get(occasion))
        return columns

    def _spread_array(self, values: npt.NDArray[np.generic], filler: object) -> npt.NDArray[np.generic]:
        grid = self.unique_grid
        cells = None if grid.is_full else grid.cells
        return spread_values(values, cells, len(grid.cases), grid.times, filler)

    @cached_property
    def made(self) -> dict[str, list[str]]:
        """For each measure the columns that are made: not those that no case has."""
        recorded = self.memory.types if self.memory is not None else {}

        def is_made(measure: str, occasion: Occasion, name: str) -> bool:
            held = self.survey.held.get(measure, {}).get(occasion)
            return held is None or held.cells > 0 or name in recorded

        return {
            measure: [name for occasion, name in by_occasion.items() if is_made(measure, occasion, name)]
            for measure, by_occasion in self.names.items()
        }

    @property
    def never_made(self) -> list[str]:
        """Columns that would hold only no-occasion."""
        made = {name for names in self.made.values() for name in names}
        return [name for by_occasion in self.names.values() for name in by_occasion.values() if name not in made]

    @property
    def column_names(self) -> list[str]:
        """The columns of the wide table beside each other, case and constants first."""
        has_case = self.memory is None or self.memory.case
        measured = [name for names in self.made.values() for name in names]
        return [*(self.case if has_case else ()), *self.roles.constants, *measured]

    def _record_layout(self, columns: dict[str, dict[Occasion, str]], entries: dict[str, object]) -> OtherLayout:
        """Record the long layout, to restore it."""
        dictionary = self.long.dictionary
        described = [name for name in (*columns, *self.occasions) if dictionary.of(name) != NO_ENTRY]
        variables = {name: dictionary.of(name) for name in described}
        lists = sorted({entry.codes for entry in variables.values() if entry.codes is not None} & set(dictionary.codes))
        has_no_measure = all(MEASURE not in template.parts[1::2] for template in self.templates)
        headers = tuple(template.text for template in self.templates)
        value_names = (
            self.memory.value_names if self.memory is not None else tuple(columns)[: 1 if has_no_measure else 0]
        )
        return OtherLayout(
            layout="long",
            case=self.case,
            occasions=self.occasions,
            headers=headers,
            value_names=value_names,
            order=tuple(self.long.names),
            places=list_positions(columns, self.grid.occasions),
            types={name: self.long[name].type for name in (*columns, *self.occasions)},
            variables=variables,
            codes={name: dict(dictionary.codes[name]) for name in lists},
            made={name: entry for name, entry in entries.items() if entry != NO_ENTRY},
        )
