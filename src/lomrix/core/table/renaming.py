"""Renaming: columns get new names, and whatever speaks of them follows."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.table import Table


def renamed_table(table: Table, names: Mapping[str, str]) -> Table:
    """A table with some columns renamed.

    Parameters
    ----------
    table
        The table.
    names
        New name of each old one.

    Returns
    -------
    The table; its dictionary and what it remembers of its other layout speak of the new names.
    """
    if not names:
        return table
    columns = {names.get(name, name): column for name, column in table.columns.items()}
    whole = table.dictionary
    variables = {names.get(name, name): whole.of(name) for name in table.names}
    memory = whole.other_layout
    dictionary = replace(
        whole,
        variables=variables,
        coded=frozenset(names.get(name, name) for name in whole.coded),
        other_layout=None if memory is None else renamed_layout(memory, names),
    )
    return replace(table, columns=columns, dictionary=dictionary.for_columns(columns), names_in_source=())


def renamed_layout(memory: OtherLayout, names: Mapping[str, str]) -> OtherLayout:
    """What is remembered of the other layout, once columns of this one have new names.

    Where measures of a long table are renamed, the columns that they had in the wide one get the names that the header
    template gives them.
    """
    wide: dict[str, str] = {}
    places = []
    for place in memory.places:
        measure = names.get(place.measure, place.measure)
        column = names.get(place.column, place.column)
        if memory.layout == "wide" and measure != place.measure:
            column = name_in_wide(memory, place.column, place.measure, measure, place.at) or place.column
        wide[place.column] = column
        places.append(place.model_copy(update={"column": column, "measure": measure}))
    follow: Callable[[str], str] = lambda name: names.get(name, wide.get(name, name))  # noqa: E731
    return memory.model_copy(
        update={
            "case": tuple(map(follow, memory.case)),
            "occasions": tuple(map(follow, memory.occasions)),
            "order": tuple(map(follow, memory.order)),
            "places": tuple(places),
            "types": {follow(name): type_ for name, type_ in memory.types.items()},
            "variables": {follow(name): entry for name, entry in memory.variables.items()},
            "made": {follow(name): entry for name, entry in memory.made.items()},
        }
    )


def name_in_wide(memory: OtherLayout, column: str, old: str, new: str, at: tuple[object, ...]) -> str:
    """The name of a wide column under the measure's new name; empty where no template made the old one."""
    occasion = dict(zip(memory.occasions, at, strict=True))
    for header in memory.headers:
        template = HeaderTemplate.parsed(header, measure_needed=False)
        if set(template.occasions) <= set(occasion) and template.written(old, occasion) == column:
            return template.written(new, occasion)
    return ""
