"""Families: the columns of a wide table that hold one measure at several occasions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.occasions import Occasion, Wish, meant, rank_values, wish_for
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import MEASURE, HeaderTemplate, occasion_text, occasion_values
from lomrix.core.table.numbers import is_number
from lomrix.core.table.other_layout import OtherLayout, typed_value
from lomrix.core.wording import some_of

NO_DICTIONARY = Dictionary()
# What a column's name says: its measure, and the text of each occasion column.
Readings = dict[str, tuple[str, dict[str, str]]]


@dataclass(frozen=True)
class Families:
    """Which column holds which measure at which occasion.

    Parameters
    ----------
    measures
        For each measure, in order of first appearance, the column's name by occasion.
    occasions
        All occasions in order; one value per occasion column of the template.
    names
        The occasion columns' names.
    set_aside
        Columns that fit a template but are none of the family: their occasion is no number where the others' are,
        or stands alone.
    joined_digits
        Columns in whose names digits of the measure may have been taken for the occasion.
    as_said
        What stands in the headers and what it means, as "month 1 is 0", where that was said.
    """

    measures: dict[str, dict[Occasion, str]]
    occasions: tuple[Occasion, ...]
    names: tuple[str, ...]
    set_aside: tuple[str, ...]
    joined_digits: tuple[str, ...] = ()
    as_said: tuple[str, ...] = ()


def templates_of(headers: Sequence[str], value_names: Sequence[str]) -> list[tuple[HeaderTemplate, str]]:
    """Header templates, each with the measure's name where its headers do not hold one.

    Raises
    ------
    UsageError
        Where names are wanting or too many, or the templates name different occasions.
    """
    names = list(value_names)
    templates = []
    for header in headers:
        template = HeaderTemplate.parsed(header, measure_needed=False)
        bare = MEASURE not in template.parts[1::2]
        if not template.occasions or (bare and not names):
            raise UsageError(
                f'The header template "{header}" needs {"an occasion" if not template.occasions else "{measure}"}.',
                todo='A template looks like "{measure}_m{month}": {measure} for the name, other braces for the '
                "occasion. Where the headers hold no measure, name it: ‹value_name=income›.",
            )
        templates.append((template, names.pop(0) if bare else ""))
    if names:
        raise UsageError(
            f"‹value_name={names[0]}› names nothing.", todo="It is for a template without {measure}, such as Y{year}."
        )
    first = templates[0][0]
    for template, _ in templates[1:]:
        if set(template.occasions) != set(first.occasions):
            raise UsageError(
                f'The templates "{first.text}" and "{template.text}" name different occasions.',
                todo="All measures of one long file stand at the same occasion columns; turn the others on their own.",
            )
    return templates


def families_of(
    names: Sequence[str],
    templates: Sequence[tuple[HeaderTemplate, str]],
    wishes: Sequence[Wish] = (),
    dictionary: Dictionary = NO_DICTIONARY,
) -> Families:
    """Find the families among columns.

    Parameters
    ----------
    names
        Columns that may be of a family.
    templates
        Header templates with the measure's name where the headers hold none.
    wishes
        What was said of the occasions.
    dictionary
        Its codes, whose order words follow.

    Raises
    ------
    UsageError
        Where no column fits a template, or one fits in two ways.
    DataError
        Where two columns hold the same measure at the same occasion.
    """
    fields = templates[0][0].occasions
    wished = {field: wish_for(field, wishes, fields) for field in fields}
    readings = _readings(names, templates, wished)
    readings, set_aside = _sorted_out(readings, wished)
    values, as_said = {}, dict[str, None]()
    for field in fields:
        own = [reading[field] for _, reading in readings.values()]
        values[field] = meant(own, wished[field], field)
        for text, before, value in zip(own, occasion_values(own), values[field], strict=True):
            if before != value:
                as_said[f"{field} {text} is {occasion_text(value)}"] = None
    occasion_of = dict(zip(readings, zip(*values.values(), strict=True), strict=True))
    measures: dict[str, dict[Occasion, str]] = {}
    for name, (measure, _) in readings.items():
        columns = measures.setdefault(measure, {})
        occasion = occasion_of[name]
        if occasion in columns:
            raise DataError(
                f"Two columns hold {measure} at the same occasion: {columns[occasion]} and {name}.",
                todo="Rename one of them, or leave it out.",
            )
        columns[occasion] = name
    ranks = [rank_values(field, values[field], dictionary, wished[field]).of for field in fields]
    order = sorted(
        set(occasion_of.values()), key=lambda one: [rank[value] for rank, value in zip(ranks, one, strict=True)]
    )
    texts = {name: reading for name, (_, reading) in readings.items()}
    joined = [name for template, _ in templates for name in template.joined_digits(texts)]
    return Families(measures, tuple(order), fields, set_aside, tuple(dict.fromkeys(joined)), tuple(as_said))


def _readings(
    names: Sequence[str], templates: Sequence[tuple[HeaderTemplate, str]], wished: Mapping[str, Wish | None]
) -> Readings:
    readings: Readings = {}
    allowed = {field: set(wish.texts) for field, wish in wished.items() if wish is not None and wish.texts}
    by: dict[str, HeaderTemplate] = {}
    for template, measure in templates:
        fitting = 0
        for name in names:
            reading = template.read(name, allowed)
            if reading is None:
                continue
            fitting += 1
            found = (reading.pop(MEASURE, measure), reading)
            if readings.setdefault(name, found) != found:
                shown = [
                    f"measure = {what}; " + "; ".join(f"{key} = {value}" for key, value in at.items())
                    for what, at in (readings[name], found)
                ]
                raise UsageError(
                    f'The templates "{by[name].text}" and "{template.text}" both fit the column {name}.',
                    where=f"({shown[0]}) or ({shown[1]})",
                    todo="Write more of the fixed text into the templates.",
                )
            by.setdefault(name, template)
        if not fitting:
            raise UsageError(
                f'No column fits the header template "{template.text}".',
                where=f"columns are {some_of(names)}",
                todo="Write the template as the columns are named, such as {measure}_m{month} for sleep_m3.",
            )
    return {name: readings[name] for name in names if name in readings}


def _sorted_out(readings: Readings, wished: Mapping[str, Wish | None]) -> tuple[Readings, tuple[str, ...]]:
    """The columns that make families, and those that only look so."""
    set_aside: list[str] = []
    words = False
    for field, wish in wished.items():
        texts = {name: reading[field] for name, (_, reading) in readings.items()}
        members = {name for name, text in texts.items() if is_number(text)}
        if wish is not None and not all(map(is_number, wish.texts)):
            members = {name for name, text in texts.items() if text in wish.texts}
            missed = [text for text in wish.texts if text not in texts.values()]
            if missed:
                raise UsageError(
                    f"No column is of {field} {', '.join(missed)}.",
                    where=f"in the headers stand {', '.join(dict.fromkeys(texts.values()))}",
                    todo="Name the occasions as the headers have them.",
                )
        words = words or not members
        if members and len(members) < len(readings):
            set_aside += [name for name in readings if name not in members]
            readings = {name: readings[name] for name in readings if name in members}
    if words:
        # Where occasions are words nearly any name fits: "joined_on" is no measure "joined" at the occasion "on".
        measures = Counter(measure for measure, _ in readings.values())
        occasions = Counter(tuple(at.values()) for _, at in readings.values())
        alone = [
            name for name, (what, at) in readings.items() if measures[what] == 1 and occasions[tuple(at.values())] == 1
        ]
        if len(alone) < len(readings):
            set_aside += alone
            readings = {name: readings[name] for name in readings if name not in alone}
    return readings, tuple(set_aside)


def remembered_families(memory: OtherLayout, names: Sequence[str]) -> Families:
    """The families of a table that was made wide, as they are remembered."""
    present = set(names)
    measures: dict[str, dict[Occasion, str]] = {}
    occasions: dict[Occasion, None] = {}
    types = [memory.types.get(name) for name in memory.occasions]
    for place in memory.places:
        at = tuple(typed_value(value, type_) for value, type_ in zip(place.at, types, strict=True))
        if place.column in present:
            occasions[at] = None
            measures.setdefault(place.measure, {})[at] = place.column
    return Families(measures, tuple(occasions), memory.occasions, ())
