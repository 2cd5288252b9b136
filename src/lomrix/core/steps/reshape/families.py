"""Families: the columns of a wide table that hold one measure at several occasions."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.occasions import (
    Occasion,
    OccasionSetting,
    find_occasion_setting,
    interpret_occasions,
    rank_values,
)
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import MEASURE, HeaderTemplate, format_occasion, parse_occasions
from lomrix.core.table.numbers import is_number
from lomrix.core.table.other_layout import OtherLayout, to_typed_value
from lomrix.core.wording import shorten_list

NO_DICTIONARY = Dictionary()
# What follows a measure's name where an occasion was meant: _12, M12, .visit3
NEARLY = r"[\W_]*[a-z]{0,8}[\W_]*\d{1,4}"
# By column: its measure, and the text of each occasion column.
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
    interpretations
        What stands in the headers and what it means, as "month 1 is 0", where that was said.
    near_misses
        Columns that begin like a measure of the family, but do not fit a template.
    """

    measures: dict[str, dict[Occasion, str]]
    occasions: tuple[Occasion, ...]
    names: tuple[str, ...]
    set_aside: tuple[str, ...]
    joined_digits: tuple[str, ...] = ()
    interpretations: tuple[str, ...] = ()
    near_misses: tuple[str, ...] = ()


def parse_templates(headers: Sequence[str], value_names: Sequence[str]) -> list[tuple[HeaderTemplate, str]]:
    """Return the header templates, each with the measure's name if its headers hold none.

    Raises UsageError if names are missing or too many, or the templates name different occasions.
    """
    names = list(value_names)
    templates = []
    for header in headers:
        template = HeaderTemplate.parse(header, measure_needed=False)
        has_no_measure = MEASURE not in template.parts[1::2]
        if not template.occasions or (has_no_measure and not names):
            raise UsageError(
                f'The header template "{header}" needs {"an occasion" if not template.occasions else "{measure}"}.',
                todo='A template looks like "{measure}_m{month}": {measure} for the name, other braces for the '
                "occasion. Where the headers hold no measure, name it: ‹value_name=income›.",
            )
        templates.append((template, names.pop(0) if has_no_measure else ""))
    if names:
        raise UsageError(
            f"‹value_name={names[0]}› is not needed.", todo="It is for a template without {measure}, such as Y{year}."
        )
    first = templates[0][0]
    for template, _ in templates[1:]:
        if set(template.occasions) != set(first.occasions):
            raise UsageError(
                f'The templates "{first.text}" and "{template.text}" name different occasions.',
                todo="All measures of one long file share the occasion columns; reshape the others separately.",
            )
    return templates


def find_families(
    names: Sequence[str],
    templates: Sequence[tuple[HeaderTemplate, str]],
    settings: Sequence[OccasionSetting] = (),
    dictionary: Dictionary = NO_DICTIONARY,
) -> Families:
    """Find the families among columns.

    Raises UsageError if no column fits a template, or one fits in two ways. Raises DataError if two columns hold the
    same measure at the same occasion.

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
    """
    fields = templates[0][0].occasions
    setting_of = {field: find_occasion_setting(field, settings, fields) for field in fields}
    readings, set_aside = _separate(_read_names(names, templates, setting_of), setting_of)
    values, interpretations = _interpret(readings, setting_of)
    occasion_of = dict(zip(readings, zip(*values.values(), strict=True), strict=True))
    measures = _group_by_measure({name: measure for name, (measure, _) in readings.items()}, occasion_of)
    ranks = [rank_values(field, values[field], dictionary, setting_of[field]).of for field in fields]
    order = sorted(
        set(occasion_of.values()),
        key=lambda occasion: [rank[value] for rank, value in zip(ranks, occasion, strict=True)],
    )
    texts = {name: reading for name, (_, reading) in readings.items()}
    joined_digits = [name for template, _ in templates for name in template.find_joined_digits(texts)]
    others = [name for name in names if name not in readings and name not in set_aside]
    return Families(
        measures, tuple(order), fields, set_aside, tuple(dict.fromkeys(joined_digits)), interpretations,
        find_near_misses(others, measures, [template for template, _ in templates]),
    )  # fmt: skip


def _interpret(
    readings: Readings, setting_of: Mapping[str, OccasionSetting | None]
) -> tuple[dict[str, list[Any]], tuple[str, ...]]:
    """Return the values of each part of the occasion, by column; and in words those that are not as written."""
    values: dict[str, list[Any]] = {}
    interpretations = dict[str, None]()
    for field, setting in setting_of.items():
        texts = [reading[field] for _, reading in readings.values()]
        values[field] = interpret_occasions(texts, setting, field)
        for text, before, value in zip(texts, parse_occasions(texts), values[field], strict=True):
            if before != value:
                interpretations[f"{field} {text} is {format_occasion(value)}"] = None
    return values, tuple(interpretations)


def _group_by_measure(
    measure_of: Mapping[str, str], occasion_of: Mapping[str, Occasion]
) -> dict[str, dict[Occasion, str]]:
    """Return the column of each measure at each occasion.

    Raises DataError if two columns hold the same measure at the same occasion.
    """
    measures: dict[str, dict[Occasion, str]] = {}
    for name, measure in measure_of.items():
        columns, occasion = measures.setdefault(measure, {}), occasion_of[name]
        if occasion in columns:
            raise DataError(
                f"Two columns hold {measure} at the same occasion: {columns[occasion]} and {name}.",
                todo="Rename one of them, or leave it out.",
            )
        columns[occasion] = name
    return measures


def find_near_misses(
    names: Sequence[str], measures: Iterable[str], templates: Sequence[HeaderTemplate]
) -> tuple[str, ...]:
    """Return columns that begin like a measure and end in a number, or whose repeated braces disagree."""
    stems = [
        # A digit after a digit belongs to another measure: f12 beside f1.
        re.compile(re.escape(measure) + (r"(?!\d)" if measure[-1:].isdigit() else "") + NEARLY, re.IGNORECASE)
        for measure in measures
    ]
    return tuple(
        name for name in names
        if any(template.has_disagreement(name) for template in templates) or any(stem.fullmatch(name) for stem in stems)
    )  # fmt: skip


def _read_names(
    names: Sequence[str],
    templates: Sequence[tuple[HeaderTemplate, str]],
    setting_of: Mapping[str, OccasionSetting | None],
) -> Readings:
    readings: Readings = {}
    allowed = {
        field: set(setting.texts) for field, setting in setting_of.items() if setting is not None and setting.texts
    }
    template_of: dict[str, HeaderTemplate] = {}
    for template, measure in templates:
        count = 0
        for name in names:
            reading = template.read(name, allowed)
            if reading is None:
                continue
            count += 1
            new_reading = (reading.pop(MEASURE, measure), reading)
            if readings.setdefault(name, new_reading) != new_reading:
                shown = [
                    f"measure = {measure_name}; " + "; ".join(f"{key} = {value}" for key, value in occasion.items())
                    for measure_name, occasion in (readings[name], new_reading)
                ]
                raise UsageError(
                    f'The templates "{template_of[name].text}" and "{template.text}" both fit the column {name}.',
                    where=f"({shown[0]}) or ({shown[1]})",
                    todo="Write more of the fixed text into the templates.",
                )
            template_of.setdefault(name, template)
        if not count:
            raise UsageError(
                f'No column fits the header template "{template.text}".',
                where=f"columns are {shorten_list(names)}",
                todo="Write the template as the columns are named, such as {measure}_m{month} for sleep_m3.",
            )
    return {name: readings[name] for name in names if name in readings}


def _separate(readings: Readings, setting_of: Mapping[str, OccasionSetting | None]) -> tuple[Readings, tuple[str, ...]]:
    """Separate the columns that form families from those that only look similar."""
    set_aside: list[str] = []
    has_words = False
    for field, setting in setting_of.items():
        texts = {name: reading[field] for name, (_, reading) in readings.items()}
        members = {name for name, text in texts.items() if is_number(text)}
        if setting is not None and not all(map(is_number, setting.texts)):
            members = {name for name, text in texts.items() if text in setting.texts}
            missing = [text for text in setting.texts if text not in texts.values()]
            if missing:
                raise UsageError(
                    f"No column is of {field} {', '.join(missing)}.",
                    where=f"the headers hold {', '.join(dict.fromkeys(texts.values()))}",
                    todo="Name the occasions as in the headers.",
                )
        has_words = has_words or not members
        if members and len(members) < len(readings):
            set_aside += [name for name in readings if name not in members]
            readings = {name: readings[name] for name in readings if name in members}
    if has_words:
        # With words as occasions nearly any name fits: "joined_on" is not a measure "joined" at the occasion "on".
        measures = Counter(measure for measure, _ in readings.values())
        occasions = Counter(tuple(occasion.values()) for _, occasion in readings.values())
        single = [
            name
            for name, (measure_name, occasion) in readings.items()
            if measures[measure_name] == 1 and occasions[tuple(occasion.values())] == 1
        ]
        if len(single) < len(readings):
            set_aside += single
            readings = {name: readings[name] for name in readings if name not in single}
    return readings, tuple(set_aside)


def recall_families(memory: OtherLayout, names: Sequence[str]) -> Families:
    """Return the recorded families of a table that was reshaped to wide."""
    present = set(names)
    measures: dict[str, dict[Occasion, str]] = {}
    occasions: dict[Occasion, None] = {}
    types = [memory.types.get(name) for name in memory.occasions]
    for position in memory.places:
        occasion = tuple(to_typed_value(value, type_) for value, type_ in zip(position.at, types, strict=True))
        if position.column in present:
            occasions[occasion] = None
            measures.setdefault(position.measure, {})[occasion] = position.column
    return Families(measures, tuple(occasions), memory.occasions, ())
