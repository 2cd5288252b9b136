"""Occasions: the values that stand in headers, what they mean, and in which order they come."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import natural_order, occasion_text, occasion_values
from lomrix.core.table.notes import Note
from lomrix.core.table.other_layout import OtherLayout, typed_value
from lomrix.core.wording import some_of

EXAMPLE = "Say ‹occasions=0,3,6,12›, or ‹occasions=before=0,after=12›; for one of several, ‹occasions=visit:1,2,3›."
Occasion = tuple[Any, ...]
MOST_SHOWN = 12
FURTHER_OCCASIONS = "likewise at {:,} further occasions"
# So many measures are told one by one.
FEW_MEASURES = 4


@dataclass(frozen=True)
class Wish:
    """What was said of the occasions of one column.

    Parameters
    ----------
    name
        The occasion column; empty where there is only one.
    values
        Values in order.
    pairs
        What stands in the headers, and what it means.
    """

    name: str
    values: tuple[str, ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()

    @property
    def texts(self) -> tuple[str, ...]:
        """What stands in the headers, where that was said."""
        return tuple(text for text, _ in self.pairs) or self.values


def wishes_of(words: Iterable[str]) -> tuple[Wish, ...]:
    """Read `0,3,6,12`, `before=0,after=12` or `visit:1,2,3`.

    Raises
    ------
    UsageError
        Where it is not clear.
    """
    wishes = []
    for word in words:
        name, colon, rest = word.partition(":")
        parts = [part.strip() for part in (rest if colon else word).split(",")]
        paired = ["=" in part for part in parts]
        if not all(parts) or any(paired) != all(paired) or len(set(parts)) < len(parts):
            raise UsageError(f'The occasions "{word}" are not clear.', todo=EXAMPLE)
        pairs = tuple((old.strip(), new.strip()) for old, _, new in (part.partition("=") for part in parts))
        own = name.strip() if colon else ""
        wishes.append(Wish(own, pairs=pairs) if all(paired) else Wish(own, tuple(parts)))
    return tuple(wishes)


def wish_for(field: str, wishes: Sequence[Wish], fields: Sequence[str]) -> Wish | None:
    """What was said of one occasion column.

    Raises
    ------
    UsageError
        Where a wish names no occasion column, or leaves open which one it means.
    """
    for wish in wishes:
        if wish.name not in ("", *fields) or (not wish.name and len(fields) > 1):
            told = wish.name or ", ".join(wish.texts)
            raise UsageError(f'‹occasions› "{told}" fits none of {", ".join(fields)}.', todo=EXAMPLE)
    return next((wish for wish in wishes if wish.name in ("", field)), None)


def meant(texts: Sequence[str], wish: Wish | None, field: str) -> list[Any]:
    """The value that each text stands for.

    Raises
    ------
    UsageError
        Where what was said does not fit what stands in the headers.
    """
    found = occasion_values(texts)
    if wish is None:
        return found
    if wish.pairs:
        known = dict(zip(wish.texts, occasion_values([new for _, new in wish.pairs]), strict=True))
        strange = [text for text in dict.fromkeys(texts) if text not in known]
        if strange or len(set(known.values())) < len(known):
            told = f"{', '.join(strange)} is not among them" if strange else "two of them mean the same"
            raise UsageError(f"The occasions of {field} are not all told: {told}.", todo=EXAMPLE)
        return [known[text] for text in texts]
    given = occasion_values(wish.values)
    distinct = sorted(set(found), key=order_of)
    if set(given) == set(distinct):
        return found
    if len(given) == len(distinct) and not isinstance(distinct[0], str):
        meaning = dict(zip(distinct, given, strict=True))
        return [meaning[value] for value in found]
    raise UsageError(
        f"‹occasions› names {len(given)} values of {field}, the columns hold {len(distinct)}: "
        f"{some_of(map(occasion_text, distinct))}.",
        todo="Name as many in the order of the columns; where the columns hold words, say before=0,after=12.",
    )


@dataclass(frozen=True)
class Ranks:
    """The order of the values of one occasion column.

    Parameters
    ----------
    name
        The column.
    of
        A sorting key for each value.
    by_appearance
        Whether nothing but the order in which they first appear decides.
    """

    name: str
    of: Mapping[Any, Any]
    by_appearance: bool = False

    @property
    def note(self) -> Note | None:
        """What is reported where the order of the rows decides the order of the occasions."""
        if not self.by_appearance or len(self.of) < 2:
            return None
        values = some_of(sorted(self.of, key=lambda value: self.of[value]))
        text = f"occasions are taken in the order in which they first appear: {values}. Codes in the dictionary would "
        text += "state their order."
        return Note(text, self.name, (), "occasion-order", len(self.of))


def rank_values(name: str, values: Iterable[Any], dictionary: Dictionary, wish: Wish | None = None) -> Ranks:
    """Order the values of an occasion column, in the one way that holds everywhere.

    As a wish says; else in the order of the codes in the dictionary; else as `occasions` were given when the table was
    turned; else numbers and dates by value, and words that all hold a number by that; else in order of appearance.

    Parameters
    ----------
    name
        The column.
    values
        Its values in order of appearance.
    dictionary
        What is known of the table.
    wish
        What was said of its occasions.
    """
    in_turn = dict.fromkeys(values)
    distinct = set(in_turn)
    wished: list[Any] = []
    if wish is not None and (wish.values or isinstance(next(iter(distinct), 0), str)):
        wished = occasion_values([new for _, new in wish.pairs] if wish.pairs else wish.values)
    for listed in (wished, list(dictionary.labels_of(name)), remembered_values(name, dictionary.other_layout)):
        if distinct <= set(listed):
            return Ranks(name, {value: place for place, value in enumerate(listed) if value in distinct})
    if not all(isinstance(value, str) and not re.search(r"\d", value) for value in distinct):
        return Ranks(name, {value: order_of(value) for value in distinct})
    return Ranks(name, {value: place for place, value in enumerate(in_turn)}, by_appearance=True)


def remembered_values(name: str, memory: OtherLayout | None) -> list[Any]:
    """The values of an occasion column in the order that was given when the table was turned."""
    if memory is None or name not in memory.occasions:
        return []
    at = memory.occasions.index(name)
    return list(dict.fromkeys(typed_value(place.at[at], memory.types.get(name)) for place in memory.places))


def order_of(value: Any) -> Any:
    """A sorting key under which numbers are numbers and "visit 3" comes before "visit 12"."""
    return (natural_order(value), value) if isinstance(value, str) else value


def told_together(
    names: Sequence[str], occasions: Sequence[Occasion], labels: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """Occasions in words, cut where they are many: "month 0, 3, 6, 12"."""
    if len(names) == 1:
        texts = [told(names, one, labels).removeprefix(f"{names[0]} ") for one in occasions]
    else:
        texts = [told(names, one, labels) for one in occasions]
    texts = texts if len(texts) <= MOST_SHOWN else [*texts[:6], "…", *texts[-3:]]
    between = ", " if len(names) == 1 else "; "
    return (f"{names[0]} " if len(names) == 1 and texts else "") + between.join(texts)


def cut_short(parts: Sequence[tuple[str, int]], rest_are: str) -> tuple[tuple[str, int], ...]:
    """Parts of a balance without those of none; where they are many the last ones in one."""
    some = [(words, count) for words, count in parts if count]
    if len(some) <= MOST_SHOWN:
        return tuple(some)
    rest = some[MOST_SHOWN - 1 :]
    return (*some[: MOST_SHOWN - 1], (rest_are.format(len(rest)), sum(count for _, count in rest)))


def each_or_all(parts: Sequence[tuple[str, int]]) -> tuple[tuple[str, int], ...]:
    """Values of each measure, or where a listing tells them better, of all together."""
    if 0 < len(parts) <= FEW_MEASURES:
        return tuple(parts)
    return ((f"in {len(parts):,} measures", sum(count for _, count in parts)),)


def told(names: Sequence[str], occasion: Occasion, labels: Mapping[str, Mapping[str, str]] | None = None) -> str:
    """An occasion in words: "month 3", or "wave 1 (before the season)" where its codes have labels."""
    parts = []
    for name, value in zip(names, occasion, strict=True):
        label = (labels or {}).get(name, {}).get(occasion_text(value), "")
        parts.append(f"{name} {occasion_text(value)}" + (f" ({label})" if label else ""))
    return ", ".join(parts)
