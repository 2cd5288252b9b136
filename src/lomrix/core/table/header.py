"""Header templates: how a measure and its occasion stand together in a column's name."""

from __future__ import annotations

import datetime
import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.table.numbers import is_number, number_of

MEASURE = "measure"
DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
WIDTH = re.compile(r"0[1-9]")
BRACES = re.compile(r"\{([^{}]*)\}")
EXAMPLE = 'A template looks like "{measure}_m{month}": {measure} for the name, other braces for the occasion.'

# Of so many ways in which a name fits, none is the right one.
MOST_WAYS = 1000


@dataclass(frozen=True)
class HeaderTemplate:
    """A template such as `{measure}_m{month}`.

    Parameters
    ----------
    text
        The template as typed.
    parts
        Fixed texts and field names in turn: even places are texts (maybe empty), odd places are fields.
    widths
        Fields written with zeros in front, such as `{month:02}`, and their least number of digits; with nothing fixed
        beside them they have that many.
    """

    text: str
    parts: tuple[str, ...]
    widths: Mapping[str, int] = field(default_factory=dict)

    @classmethod
    def parsed(cls, text: str, *, measure_needed: bool = True) -> HeaderTemplate:
        """Read a template.

        Raises
        ------
        UsageError
            Where braces are empty, repeated or left open, or `{measure}` or an occasion is wanting.
        """
        parts, widths = BRACES.split(text), {}
        for place in range(1, len(parts), 2):
            parts[place], colon, width = parts[place].partition(":")
            if colon and (not WIDTH.fullmatch(width) or parts[place] == MEASURE):
                raise UsageError(
                    f'In the header template "{text}" there is no sense in ":{width}".',
                    todo="Say {month:02} for an occasion of two digits, 03 and 12; nothing else can follow the colon.",
                )
            if colon:
                widths[parts[place]] = int(width)
        fields = parts[1::2]
        if any(brace in fixed for fixed in parts[::2] for brace in "{}"):
            raise UsageError(f'The header template "{text}" has a brace without its partner.', todo=EXAMPLE)
        odd = next((name for name in fields if name and not name.isidentifier()), None)
        if odd is not None:
            plain = re.sub(r"\W+", "_", odd).strip("_")
            raise UsageError(
                f'The braces of the header template hold "{odd}", which is no name for a column.',
                todo=f"Write a word of letters, digits and underscores, such as {{{plain}}}." if plain else EXAMPLE,
            )
        if not all(fields) or fields.count(MEASURE) > 1:
            raise UsageError(f'The braces of the header template "{text}" need a word each.', todo=EXAMPLE)
        if measure_needed and (MEASURE not in fields or len(set(fields)) < 2):
            raise UsageError(f'The header template "{text}" needs {{measure}} and an occasion.', todo=EXAMPLE)
        return cls(text, tuple(parts), widths)

    def joined_digits(self, readings: Mapping[str, Mapping[str, str]]) -> list[str]:
        """Columns in whose names digits of the measure may have been taken for the occasion, as in co298 beside no98.

        Parameters
        ----------
        readings
            By column, the text of each occasion.
        """
        found = []
        for place, word in enumerate(self.parts[1::2]):
            if word == MEASURE or word in self.widths or not self._touches(2 * place):
                continue
            texts = {name: reading[word] for name, reading in readings.items() if reading[word].isdecimal()}
            least = min(map(len, texts.values()), default=0)
            ends = {text for text in texts.values() if len(text) == least}
            found += [name for name, text in texts.items() if len(text) > least > 1 and text[-least:] in ends]
        return found

    @property
    def occasions(self) -> tuple[str, ...]:
        """The occasion columns that the template names, in its order."""
        return tuple(dict.fromkeys(name for name in self.parts[1::2] if name != MEASURE))

    def readings(self, name: str, allowed: Mapping[str, set[str]] | None = None) -> list[dict[str, str]]:
        """Every way in which a column's name fits the template.

        Parameters
        ----------
        name
            A column's name.
        allowed
            By occasion column, the texts that were said to stand in the headers; where a field has nothing fixed
            before it, they say where it begins.
        """
        # Numbers are found as runs of digits, whatever they stand for; words only where they were said.
        known = {field: {text for text in texts if not is_number(text)} for field, texts in (allowed or {}).items()}
        fields = self.parts[1::2]
        ways = list(itertools.islice(self._fits(name, 0, 0, known), MOST_WAYS))
        if len(ways) == MOST_WAYS:
            raise UsageError(
                f'The header template "{self.text}" fits the column {name} in more than {MOST_WAYS} ways.',
                todo="Write more of the fixed text into the template.",
            )
        read = [(dict(zip(fields, values, strict=True)), values) for values in ways]
        # A word that stands twice says one thing.
        found = [
            one for one, values in read if all(one[word] == text for word, text in zip(fields, values, strict=True))
        ]
        return [reading for reading in found if all(self._wide_enough(reading[word], word) for word in self.widths)]

    def _wide_enough(self, text: str, word: str) -> bool:
        width = self.widths[word]
        if self._touches(self.parts.index(word) - 1):
            return text.isdecimal() and len(text) == width
        return text.isdecimal() and (len(text) == width or (len(text) > width and not text.startswith("0")))

    def _touches(self, part: int) -> bool:
        """True where nothing fixed stands between the field after `part` and another field."""
        last = part + 2 == len(self.parts) - 1
        return (part > 0 and not self.parts[part]) or (not self.parts[part + 2] and not last)

    def _fits(self, name: str, start: int, part: int, allowed: Mapping[str, set[str]]) -> Iterator[tuple[str, ...]]:
        fixed = self.parts[part]
        if not name.startswith(fixed, start):
            return
        start += len(fixed)
        if part + 1 == len(self.parts):
            if start == len(name):
                yield ()
            return
        for end in self._ends(name, start, part, allowed):
            for rest in self._fits(name, end, part + 2, allowed):
                yield (name[start:end], *rest)

    def _ends(self, name: str, start: int, part: int, allowed: Mapping[str, set[str]]) -> Iterator[int]:
        """Where the field after `part` may end."""
        field, following = self.parts[part + 1], self.parts[part + 2]
        last = part + 2 == len(self.parts) - 1
        if self._touches(part) and field != MEASURE:
            yield from self._ends_of_occasion(name, start, field, allowed.get(field, set()))
        elif not following and not last:
            yield from self._ends_before(name, start, self.parts[part + 3], allowed)
        elif last and not following:
            if start < len(name):
                yield len(name)
        else:
            end = name.find(following, start + 1)
            while end >= 0:
                yield end
                end = name.find(following, end + 1)

    def _ends_of_occasion(self, name: str, start: int, field: str, texts: set[str]) -> Iterator[int]:
        """Where an occasion with nothing fixed beside it ends: after a text that was said, else the run of digits."""
        if texts:
            yield from sorted({start + len(text) for text in texts if name.startswith(text, start)})
            return
        run = re.compile(r"\d+").match(name, start)
        if run:
            yield run.end()

    def _ends_before(self, name: str, start: int, field: str, allowed: Mapping[str, set[str]]) -> Iterator[int]:
        """Where a measure may end that an occasion follows straight after."""
        texts, width = allowed.get(field, set()), self.widths.get(field, 0)
        for end in range(start + 1, len(name)):
            if texts:
                if any(name.startswith(text, end) for text in texts):
                    yield end
            elif width:
                if name[end : end + width].isdecimal() and not name[end + width : end + width + 1].isdecimal():
                    yield end
            elif name[end].isdigit() and not name[end - 1].isdigit():
                yield end

    def read(self, name: str, allowed: Mapping[str, set[str]] | None = None) -> dict[str, str] | None:
        """The one way in which a name fits, None where it does not.

        Where several ways fit, those whose occasions are among the allowed ones come first, then those whose
        occasions are numbers.

        Parameters
        ----------
        name
            A column's name.
        allowed
            By occasion column, the texts that were said to stand in the headers.

        Raises
        ------
        UsageError
            Where two readings are left; both are shown.
        """
        readings = self.readings(name, allowed)
        if len(readings) > 1 and allowed:
            known = [one for one in readings if all(one[field] in texts for field, texts in allowed.items())]
            readings = known or readings
        if len(readings) > 1:
            numeric = [one for one in readings if all(is_number(one[field]) for field in self.occasions)]
            readings = numeric or readings
        if not readings:
            return None
        if len(readings) > 1:
            shown = ["; ".join(f"{key} = {value}" for key, value in one.items()) for one in readings[:2]]
            raise UsageError(
                f'The header template "{self.text}" fits the column {name} in two ways.',
                where=f"({shown[0]}) or ({shown[1]})",
                todo="Write more of the fixed text into the template.",
            )
        return readings[0]

    def written(self, measure: str, occasion: Mapping[str, Any]) -> str:
        """The column's name for a measure at an occasion."""
        texts = []
        for place, part in enumerate(self.parts):
            if place % 2 == 0:
                texts.append(part)
            else:
                texts.append(measure if part == MEASURE else occasion_text(occasion[part], self.widths.get(part, 0)))
        return "".join(texts)


@lru_cache(maxsize=256)
def pattern_of(text: str) -> HeaderTemplate:
    """A dictionary's name with braces, read once."""
    return HeaderTemplate.parsed(text, measure_needed=False)


def speaks_of(template: HeaderTemplate, name: str) -> dict[str, str] | None:
    """How a dictionary's template fits a column; None where it does not.

    A brace that touches a letter stands for a number: `sleep_m{month}` speaks of sleep_m3 and not of sleep_max.
    """
    reading = template.read(name)
    if reading is None:
        return None
    for place in range(1, len(template.parts), 2):
        touches = template.parts[place - 1][-1:].isalpha() or template.parts[place + 1][:1].isalpha()
        if touches and template.parts[place] != MEASURE and not is_number(reading[template.parts[place]]):
            return None
    return reading


def occasion_text(value: object, width: int = 0) -> str:
    """An occasion's value as it stands in a column's name: 3.0 is 3, with zeros in front up to a width."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if isinstance(value, datetime.datetime):
        return value.isoformat()
    return f"{value:0{width}d}" if width and isinstance(value, int) else str(value)


def occasion_values(texts: Sequence[str]) -> list[Any]:
    """Occasion texts as numbers or dates where all of them are, else as they are."""
    if all(is_number(text) for text in texts):
        numbers = [number_of(text) for text in texts]
        return numbers if all(isinstance(number, int) for number in numbers) else [float(number) for number in numbers]
    if all(DATE.fullmatch(text) for text in texts):
        try:
            return [datetime.date.fromisoformat(text) for text in texts]
        except ValueError:
            return list(texts)
    return list(texts)


def natural_order(text: str) -> list[tuple[int, float, str]]:
    """A sorting key under which "visit 3" comes before "visit 12"."""
    return [(0, float(run), "") if run.isdecimal() else (1, 0.0, run) for run in re.split(r"(\d+)", text) if run]
