"""What must be known of a whole long table before a part of it is reshaped to wide."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.ordinals import Extent
from lomrix.core.combining import Extreme
from lomrix.core.rows.cases import Variation
from lomrix.core.rows.grid import Grid, GridSurvey
from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.repeated_rows import reduce_rows
from lomrix.core.steps.reshape.to_wide import Reduction, ToWide
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.numbers import Type
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table

Mask = npt.NDArray[np.bool_]
# The narrower type that a column may once have had.
NARROWER: dict[Type, Type] = {"number": "integer", "datetime": "date"}
# Larger integers are not exact as decimals.
MOST_EXACT = 2**53


@dataclass(frozen=True)
class Held:
    """What a column of the wide layout holds: cells other than for `no-occasion`, values, and values that do not fit
    the narrower type.
    """

    cells: int
    values: int
    misfits: int


@dataclass(frozen=True)
class WideSurvey:
    """What must be known of all parts of a long table.

    `labels` has for each occasion its labels with the number of their first row; `held` is known of the measures whose
    columns may not be made, or may be narrower; `extents` are those of repeated rows that are added up.
    """

    rows: int
    grid: GridSurvey
    variations: Mapping[str, Variation]
    labels: Mapping[Occasion, Mapping[str, Extreme]]
    held: Mapping[str, Mapping[Occasion, Held]]
    extents: Mapping[str, Extent]


def make_survey(step: ToWide, long: Table, grid: Grid, memory: OtherLayout | None) -> WideSurvey:
    """Survey a long table, or a part of it."""
    others = [name for name in long.names if name not in (*grid.case, *grid.names)]
    variations = {name: grid.cases.find_variation(name) for name in others}
    labels = find_labels(long[step.label_from], grid) if step.label_from else {}
    extents: dict[str, Extent] = {}
    if step.repeated in ("mean", "sum"):
        numeric = [name for name in others if long[name].type in ("integer", "number")]
        cells = {name: long[name].take(grid.repeated) for name in numeric}
        extents = {name: Extent.measure(column.values[~column.is_missing]) for name, column in cells.items()}
    held = survey_measures(step, long, others, grid, memory)
    return WideSurvey(len(long), grid.survey, variations, labels, held, extents)


def find_labels(column: Column, grid: Grid) -> dict[Occasion, dict[str, Extreme]]:
    """Find the labels of each occasion in a column."""
    column = column.encode()
    texts = column.to_text() if column.type != "string" else column.strings.strings
    codes = np.arange(len(column)) if column.type != "string" else column.values
    present = np.flatnonzero(~column.is_missing)
    both = grid.cells[present] % max(grid.times, 1) * max(len(texts), 1) + codes[present]
    distinct, firsts = np.unique(both, return_index=True)
    result: dict[Occasion, dict[str, Extreme]] = {}
    for number, row in zip(distinct.tolist(), grid.table.number_rows(present[firsts]), strict=True):
        occasion, text = divmod(number, len(texts))
        label = {texts[text].as_py(): Extreme(row, is_maximum=False)}
        result.setdefault(grid.occasions[occasion], {}).update(label)
    return result


def survey_measures(
    step: ToWide, long: Table, others: list[str], grid: Grid, memory: OtherLayout | None
) -> dict[str, dict[Occasion, Held]]:
    """Survey the columns that measures would become, where that decides whether they are made, or their type."""
    places, is_computed = () if memory is None else memory.places, step.repeated not in ("stop", "first", "last")
    narrower = {
        place.measure for place in places
        if memory is not None and place.measure in others
        and (is_computed or memory.types.get(place.column, long[place.measure].type) != long[place.measure].type)
    }  # fmt: skip
    names = [name for name in others if NO_OCCASION in long[name].reasons or name in narrower]
    if not names:
        return {}
    rows = kept = Positioned(long, grid)
    repeats = len(grid.repeated) and step.repeated != "stop"
    if repeats:
        kept = rows.reduce("last" if step.repeated == "last" else "first", names)
    result: dict[str, dict[Occasion, Held]] = {}
    for name in names:
        reduced = rows.reduce(step.repeated, [name]) if repeats and name in narrower else kept
        cells = kept.count(is_held(kept.table[name]))
        if repeats and is_computed:
            cells += rows.count(~long[name].is_missing)
        column = reduced.table[name]
        values, misfits = reduced.count(~column.is_missing), reduced.count(find_misfits(column))
        counts = zip(grid.occasions, cells.tolist(), values.tolist(), misfits.tolist(), strict=True)
        result[name] = {occasion: Held(*numbers) for occasion, *numbers in counts}
    return result


@dataclass(frozen=True)
class Positioned:
    """A long table, or its columns after repeated rows were reduced, with the position of each row."""

    table: Table
    grid: Grid

    def reduce(self, how: Reduction, names: list[str]) -> Positioned:
        """Reduce repeated rows to one."""
        columns = self.table.only((*self.grid.case, *self.grid.names, *names))
        table = reduce_rows(columns, self.grid.cells, self.grid.repeated, names, how).table
        return Positioned(table, Grid(table, self.grid.case, self.grid.names, self.grid.memory, self.grid.survey))

    def count(self, rows: Mask) -> npt.NDArray[np.int64]:
        """Count some rows at each occasion."""
        return self.grid.count_per_occasion(rows)


def is_held(column: Column) -> Mask:
    """Return for each cell whether it is more than a case that was not seen."""
    if column.why is None or NO_OCCASION not in column.reasons:
        return np.ones(len(column), np.bool_)
    return np.asarray(column.why != column.reasons.index(NO_OCCASION) + 1)


def find_misfits(column: Column) -> Mask:
    """Return for each cell whether it has a value that the narrower type cannot have."""
    if column.type == "number":
        values = np.nan_to_num(column.values)
        fits = (values == np.floor(values)) & (np.abs(values) <= MOST_EXACT)
    elif column.type == "datetime":
        fits = column.values.astype("datetime64[D]").astype(column.values.dtype) == column.values
    else:
        return np.zeros(len(column), np.bool_)
    return np.asarray(~fits & ~column.is_missing)


def narrow(column: Column, type_: Type | None, held: Held | None) -> Column:
    """Return a column in the type it once had, if no cell of the whole contradicts it."""
    if type_ is None or type_ == column.type or held is None:
        return column
    if not held.values:
        return column.widen(type_)
    if held.misfits or NARROWER.get(column.type) != type_:
        return column
    values = column.values if type_ == "date" else np.nan_to_num(column.values)
    return Column.of(type_, values.astype(DTYPES[type_]), column.why, column.reasons)
