"""Occasions: their values in headers, their meaning, and their order."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import format_occasion, natural_key, parse_occasions
from lomrix.core.table.header_guess import FIRST_WORDS
from lomrix.core.table.notes import Note, note_alike
from lomrix.core.table.other_layout import OtherLayout, to_typed_value
from lomrix.core.wording import shorten_list

EXAMPLE = "Use ‹occasions=0,3,6,12›, or ‹occasions=before=0,after=12›; for one of several, ‹occasions=visit:1,2,3›."
Occasion = tuple[Any, ...]
MOST_SHOWN = 12


@dataclass(frozen=True)
class OccasionSetting:
    """What the user stated about the occasions of one column (empty name: the only one): values in order, or pairs of
    header text and meaning.
    """

    name: str
    values: tuple[str, ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()

    @property
    def texts(self) -> tuple[str, ...]:
        """The header texts, if stated."""
        return tuple(text for text, _ in self.pairs) or self.values


def parse_occasion_settings(texts: Iterable[str]) -> tuple[OccasionSetting, ...]:
    """Parse `0,3,6,12`, `before=0,after=12` or `visit:1,2,3`.

    Raises UsageError if it is not valid.
    """
    settings = []
    for text in texts:
        name, colon, listing = text.partition(":")
        parts = [part.strip() for part in (listing if colon else text).split(",")]
        paired = ["=" in part for part in parts]
        if not all(parts) or any(paired) != all(paired) or len(set(parts)) < len(parts):
            raise UsageError(f'The occasions "{text}" are not valid.', todo=EXAMPLE)
        pairs = tuple((old.strip(), new.strip()) for old, _, new in (part.partition("=") for part in parts))
        column = name.strip() if colon else ""
        settings.append(OccasionSetting(column, pairs=pairs) if all(paired) else OccasionSetting(column, tuple(parts)))
    return tuple(settings)


def find_occasion_setting(
    field: str, settings: Sequence[OccasionSetting], fields: Sequence[str]
) -> OccasionSetting | None:
    """Return the setting for one occasion column.

    Raises UsageError if a setting names no occasion column, or several are possible.
    """
    for setting in settings:
        if setting.name not in ("", *fields) or (not setting.name and len(fields) > 1):
            shown = setting.name or ", ".join(setting.texts)
            raise UsageError(f'‹occasions› "{shown}" matches none of {", ".join(fields)}.', todo=EXAMPLE)
    return next((setting for setting in settings if setting.name in ("", field)), None)


def interpret_occasions(texts: Sequence[str], setting: OccasionSetting | None, field: str) -> list[Any]:
    """Return the value that each header text stands for.

    Raises UsageError if the setting does not fit the headers.
    """
    values = parse_occasions(texts)
    if setting is None:
        return values
    if setting.pairs:
        known = dict(zip(setting.texts, parse_occasions([new for _, new in setting.pairs]), strict=True))
        strange = [text for text in dict.fromkeys(texts) if text not in known]
        if strange or len(set(known.values())) < len(known):
            problem = f"{', '.join(strange)} is not listed" if strange else "two have the same meaning"
            raise UsageError(f"The occasions of {field} are incomplete: {problem}.", todo=EXAMPLE)
        return [known[text] for text in texts]
    given = parse_occasions(setting.values)
    distinct = sorted(set(values), key=sort_key)
    if set(given) == set(distinct):
        return values
    if len(given) == len(distinct) and not isinstance(distinct[0], str):
        meaning = dict(zip(distinct, given, strict=True))
        return [meaning[value] for value in values]
    raise UsageError(
        f"‹occasions› names {len(given)} values of {field}, the columns hold {len(distinct)}: "
        f"{shorten_list(map(format_occasion, distinct))}.",
        todo="Name as many, in the order of the columns; if the columns hold words, write before=0,after=12.",
    )


@dataclass(frozen=True)
class Ranks:
    """A sorting key for each value of an occasion column; `by_appearance` if only the order of first appearance
    decides, and `last` has words that come last since they hold no number.
    """

    name: str
    of: Mapping[Any, Any]
    by_appearance: bool = False
    last: Sequence[str] = ()

    @property
    def notes(self) -> list[Note]:
        """Note that the order of the rows decides the order of the occasions, and occasions that are hardly two."""
        notes, advice = [], "Codes in the dictionary would state their order."
        if self.by_appearance and len(self.of) > 1:
            values = shorten_list(sorted(self.of, key=lambda value: self.of[value]))
            text = f"occasions are ordered by first appearance: {values}. {advice}"
            notes.append(Note(text, self.name, (), "occasion-order", len(self.of)))
        if self.last:
            text = f"occasions without a number come last: {shorten_list(self.last)}. {advice}"
            notes.append(Note(text, self.name, (), "occasion-order", len(self.last)))
        texts = [value for value in self.of if isinstance(value, str)]
        return [*notes, *note_alike(self.name, texts, "occasions")]


def rank_values(
    name: str, values: Iterable[Any], dictionary: Dictionary, setting: OccasionSetting | None = None
) -> Ranks:
    """Order the values of an occasion column, in the one way that holds everywhere.

    As stated by the user; else in the order of the codes in the dictionary; else as `occasions` were given in
    reshaping; else numbers and dates by value, and words by the number that they hold, those for the first occasion
    before and others after them; else in order of appearance.
    """
    appearance = dict.fromkeys(values)
    distinct = set(appearance)
    stated: list[Any] = []
    if setting is not None and (setting.values or isinstance(next(iter(distinct), 0), str)):
        stated = parse_occasions([new for _, new in setting.pairs] if setting.pairs else setting.values)
    for order in (stated, list(dictionary.labels_of(name)), recorded_order(name, dictionary.other_layout)):
        if distinct <= set(order):
            return Ranks(name, {value: position for position, value in enumerate(order) if value in distinct})
    words = [value for value in appearance if isinstance(value, str) and not re.search(r"\d", value)]
    if len(words) == len(distinct):
        return Ranks(name, {value: position for position, value in enumerate(appearance)}, by_appearance=True)
    first = [word for word in words if word.casefold() in FIRST_WORDS]
    last = [word for word in words if word not in first]
    order = [*first, *sorted(distinct - {*words}, key=sort_key), *last]
    return Ranks(name, {value: position for position, value in enumerate(order)}, last=last)


def recorded_order(name: str, memory: OtherLayout | None) -> list[Any]:
    """Return the values of an occasion column in the order stated in reshaping."""
    if memory is None or name not in memory.occasions:
        return []
    index = memory.occasions.index(name)
    return list(dict.fromkeys(to_typed_value(position.at[index], memory.types.get(name)) for position in memory.places))


def sort_key(value: Any) -> Any:
    """Return a sorting key under which numbers are numbers and "visit 3" comes before "visit 12"."""
    return (natural_key(value.casefold()), value) if isinstance(value, str) else value


def format_occasions(
    names: Sequence[str], occasions: Sequence[Occasion], labels: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """Format occasions, cut if they are many: "month 0, 3, 6, 12"."""
    if len(names) == 1:
        texts = [*chain.from_iterable(format_occasion_values(names, occasion, labels) for occasion in occasions)]
    else:
        texts = [format_occasion_pair(names, occasion, labels) for occasion in occasions]
    texts = texts if len(texts) <= MOST_SHOWN else [*texts[:6], "…", *texts[-3:]]
    between = ", " if len(names) == 1 else "; "
    return (f"{names[0]} " if len(names) == 1 and texts else "") + between.join(texts)


def format_occasion_pair(
    names: Sequence[str], occasion: Occasion, labels: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """Format an occasion: "month 3", or "wave 1 (before the season)" if its codes have labels."""
    values = format_occasion_values(names, occasion, labels)
    return ", ".join(f"{name} {value}" for name, value in zip(names, values, strict=True))


def format_occasion_values(
    names: Sequence[str], occasion: Occasion, labels: Mapping[str, Mapping[str, str]] | None = None
) -> list[str]:
    """Format the values of an occasion, each with its label if its code has one."""
    texts = [format_occasion(value) for value in occasion]
    found = [(labels or {}).get(name, {}).get(text, "") for name, text in zip(names, texts, strict=True)]
    return [text + (f" ({label})" if label else "") for text, label in zip(texts, found, strict=True)]
