"""Renaming: columns get new names, and all that refers to them follows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from lomrix.core.combining import PartsDifferError, combine_all
from lomrix.core.table.column import DTYPES, FILLERS, Column, common_type
from lomrix.core.table.dictionary import rename_in_rule
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.numbers import Type
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import Why, join_reasons, renumber_why
from lomrix.core.table.table import Table


def rename_columns(table: Table, names: Mapping[str, str]) -> Table:
    """Rename columns; the dictionary and the recorded other layout follow."""
    if not names:
        return table
    columns = {names.get(name, name): column for name, column in table.columns.items()}
    old = table.dictionary
    variables = {names.get(name, name): old.of(name) for name in table.names}
    memory = old.other_layout
    dictionary = replace(
        old,
        variables=variables,
        rules={name: rename_in_rule(rule, names) for name, rule in old.rules.items()},
        coded=frozenset(names.get(name, name) for name in old.coded),
        other_layout=None if memory is None else rename_in_layout(memory, names),
    )
    return replace(table, columns=columns, dictionary=dictionary.for_columns(columns), names_in_source=())


def rename_in_layout(memory: OtherLayout, names: Mapping[str, str]) -> OtherLayout:
    """Rename columns in the recorded other layout.

    If measures of a long table are renamed, their wide columns get the names that the header template gives them.
    """
    wide: dict[str, str] = {}
    positions = []
    for position in memory.places:
        measure = names.get(position.measure, position.measure)
        column = names.get(position.column, position.column)
        if memory.layout == "wide" and measure != position.measure:
            column = (
                rename_wide_column(memory, position.column, position.measure, measure, position.at) or position.column
            )
        wide[position.column] = column
        positions.append(position.model_copy(update={"column": column, "measure": measure}))
    follow: Callable[[str], str] = lambda name: names.get(name, wide.get(name, name))  # noqa: E731
    return memory.model_copy(
        update={
            "case": tuple(map(follow, memory.case)),
            "occasions": tuple(map(follow, memory.occasions)),
            "order": tuple(map(follow, memory.order)),
            "places": tuple(positions),
            "types": {follow(name): type_ for name, type_ in memory.types.items()},
            "variables": {follow(name): entry for name, entry in memory.variables.items()},
            "made": {follow(name): entry for name, entry in memory.made.items()},
        }
    )


def rename_wide_column(memory: OtherLayout, column: str, old: str, new: str, values: tuple[object, ...]) -> str:
    """Return the name of a wide column under the measure's new name; empty if no template made the old one."""
    occasion = dict(zip(memory.occasions, values, strict=True))
    for header in memory.headers:
        template = HeaderTemplate.parse(header, measure_needed=False)
        if set(template.occasions) <= set(occasion) and template.format(old, occasion) == column:
            return template.format(new, occasion)
    return ""


def concatenate_whys(parts: Sequence[Column]) -> tuple[Why | None, tuple[str, ...]]:
    """Concatenate the `why` arrays of columns (None if nothing is missing), and return the reasons they count."""
    reasons = join_reasons(*(part.reasons for part in parts))
    if all(part.why is None for part in parts):
        return None, reasons
    whys = [
        np.zeros(len(part), np.uint8) if part.why is None else renumber_why(part.why, part.reasons, reasons)
        for part in parts
    ]
    return np.concatenate(whys), reasons


def concatenate_columns(parts: Sequence[Column], type_: Type) -> Column:
    """Concatenate columns of one type, with their reasons."""
    why, reasons = concatenate_whys(parts)
    if type_ != "string":
        return Column.of(type_, np.concatenate([part.values for part in parts]), why, reasons)
    first = parts[0].strings
    if all(part.stored is not None and part.strings.holds_same(first) for part in parts):  # parts of one column
        return Column.of_strings(np.concatenate([part.values for part in parts]), first, why, reasons)
    pool = Pool(pa.concat_arrays([part.strings.strings for part in parts]))
    if all(part.stored is None for part in parts):
        return Column.of_strings(None, pool, why, reasons)
    start, positions = 0, []
    for part in parts:
        positions.append(np.where(part.values < 0, FILLERS["string"], part.values + start).astype(DTYPES["string"]))
        start += len(part.strings)
    return Column.of_strings(np.concatenate(positions), pool, why, reasons)


def concatenate_tables(parts: Sequence[Table]) -> Table:
    """Concatenate parts of one table; a column without values in a part fits any type."""
    if len(parts) == 1:
        return parts[0]
    columns = {}
    for name in parts[0].names:
        columns_of_parts = [part[name] for part in parts]
        type_ = common_type(columns_of_parts)
        if type_ is None:
            raise PartsDifferError(f"{name} has several types.")
        columns[name] = concatenate_columns([column.widen(type_) for column in columns_of_parts], type_)
    numbers = [part.row_numbers for part in parts if part.row_numbers is not None]
    return replace(
        parts[0], columns=columns, dictionary=combine_all(part.dictionary for part in parts),
        row_numbers=np.concatenate(numbers) if numbers else None,
    )  # fmt: skip


def join_in_row_order(parts: Iterable[Table]) -> Table:
    """Concatenate parts of one table, in the order of the rows' numbers if they have any."""
    return sort_by_number(concatenate_tables(list(parts)))


def sort_by_number(table: Table) -> Table:
    """Return the rows in the order of their numbers, if they have any."""
    numbers = table.row_numbers
    if numbers is None or (numbers[1:] >= numbers[:-1]).all():
        return table
    return table.take(np.argsort(numbers, kind="stable"))
