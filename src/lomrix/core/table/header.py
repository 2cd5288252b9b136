"""Header templates: how a column's name combines a measure and its occasion."""

from __future__ import annotations

import datetime
import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.table.numbers import is_number, parse_number

MEASURE = "measure"
DATE = re.compile(r"\d{4}-\d{2}-\d{2}")
WIDTH = re.compile(r"0[1-9]")
BRACES = re.compile(r"\{([^{}]*)\}")
EXAMPLE = 'A template looks like "{measure}_m{month}": {measure} for the name, other braces for the occasion.'

# If a name fits in this many ways, the template is useless.
MOST_WAYS = 1000


@dataclass(frozen=True)
class HeaderTemplate:
    """A template such as `{measure}_m{month}`.

    `parts` alternates fixed texts (maybe empty, even positions) and field names (odd positions). `widths` gives the
    minimum digits of fields such as `{month:02}`; exactly that many if nothing fixed is beside them.
    """

    text: str
    parts: tuple[str, ...]
    widths: Mapping[str, int] = field(default_factory=dict)

    @classmethod
    def parse(cls, text: str, *, measure_needed: bool = True) -> HeaderTemplate:
        """Parse a template.

        Raises UsageError if braces are empty, repeated or unmatched, or `{measure}` or an occasion is missing.
        """
        parts, widths = BRACES.split(text), {}
        for index in range(1, len(parts), 2):
            parts[index], colon, width = parts[index].partition(":")
            if colon and (not WIDTH.fullmatch(width) or parts[index] == MEASURE):
                raise UsageError(
                    f'The format ":{width}" in the header template "{text}" is not valid.',
                    todo="Use {month:02} for an occasion of two digits, 03 and 12; only a width can follow the colon.",
                )
            if colon:
                widths[parts[index]] = int(width)
        fields = parts[1::2]
        if any(brace in fixed for fixed in parts[::2] for brace in "{}"):
            raise UsageError(f'The header template "{text}" has an unmatched brace.', todo=EXAMPLE)
        invalid = next((name for name in fields if name and not name.isidentifier()), None)
        if invalid is not None:
            suggestion = re.sub(r"\W+", "_", invalid).strip("_")
            raise UsageError(
                f'"{invalid}" in the header template cannot be a column name.',
                todo=f"Write a word of letters, digits and underscores, such as {{{suggestion}}}."
                if suggestion
                else EXAMPLE,
            )
        if not all(fields) or fields.count(MEASURE) > 1:
            raise UsageError(f'Each pair of braces in the header template "{text}" needs a name.', todo=EXAMPLE)
        if measure_needed and (MEASURE not in fields or len(set(fields)) < 2):
            raise UsageError(f'The header template "{text}" needs {{measure}} and an occasion.', todo=EXAMPLE)
        return cls(text, tuple(parts), widths)

    def find_joined_digits(self, readings: Mapping[str, Mapping[str, str]]) -> list[str]:
        """Find columns in whose names digits of the measure may have been read as part of the occasion, as in co298
        beside no98. `readings` gives for each column the text of each occasion.
        """
        columns = []
        for index, brace in enumerate(self.parts[1::2]):
            if brace == MEASURE or brace in self.widths or not self._is_adjacent(2 * index):
                continue
            texts = {name: reading[brace] for name, reading in readings.items() if reading[brace].isdecimal()}
            least = min(map(len, texts.values()), default=0)
            ends = {text for text in texts.values() if len(text) == least}
            columns += [name for name, text in texts.items() if len(text) > least > 1 and text[-least:] in ends]
        return columns

    @property
    def occasions(self) -> tuple[str, ...]:
        """The occasion columns that the template names, in its order."""
        return tuple(dict.fromkeys(name for name in self.parts[1::2] if name != MEASURE))

    def find_readings(self, name: str, allowed: Mapping[str, set[str]] | None = None) -> list[dict[str, str]]:
        """Return every way in which a column's name fits the template.

        `allowed` gives for each occasion column the texts expected in the headers; where nothing fixed precedes a
        field, they determine where it begins.
        """
        fields, matches = self.parts[1::2], self._find_matches(name, allowed)
        if len(matches) == MOST_WAYS:
            raise UsageError(
                f'The header template "{self.text}" fits the column {name} in more than {MOST_WAYS} ways.',
                todo="Write more of the fixed text into the template.",
            )
        read = [(dict(zip(fields, values, strict=True)), values) for values in matches]
        # A field that occurs twice must have one value.
        consistent = [
            reading
            for reading, values in read
            if all(reading[field] == text for field, text in zip(fields, values, strict=True))
        ]
        return [
            reading for reading in consistent if all(self._has_width(reading[field], field) for field in self.widths)
        ]

    def _find_matches(self, name: str, allowed: Mapping[str, set[str]] | None = None) -> list[Any]:
        """Return the texts of the fields in every way in which a name fits, whether repeated fields agree or not."""
        # Numbers are found as runs of digits; words only if they were given.
        words = {field: {text for text in texts if not is_number(text)} for field, texts in (allowed or {}).items()}
        return list(itertools.islice(self._match(name, 0, 0, words), MOST_WAYS))

    def has_disagreement(self, name: str) -> bool:
        """Return whether a name fits but for a field that occurs twice with two values."""
        has_repeated = len(set(self.parts[1::2])) < len(self.parts[1::2])
        return has_repeated and bool(self._find_matches(name)) and not self.find_readings(name)

    def _has_width(self, text: str, field: str) -> bool:
        width = self.widths[field]
        if self._is_adjacent(self.parts.index(field) - 1):
            return text.isdecimal() and len(text) == width
        return text.isdecimal() and (len(text) == width or (len(text) > width and not text.startswith("0")))

    def _is_adjacent(self, part: int) -> bool:
        """Return whether nothing fixed separates the field after `part` from another field."""
        last = part + 2 == len(self.parts) - 1
        return (part > 0 and not self.parts[part]) or (not self.parts[part + 2] and not last)

    def _match(self, name: str, start: int, part: int, allowed: Mapping[str, set[str]]) -> Iterator[tuple[str, ...]]:
        fixed = self.parts[part]
        if not name.startswith(fixed, start):
            return
        start += len(fixed)
        if part + 1 == len(self.parts):
            if start == len(name):
                yield ()
            return
        for end in self._find_ends(name, start, part, allowed):
            for others in self._match(name, end, part + 2, allowed):
                yield (name[start:end], *others)

    def _find_ends(self, name: str, start: int, part: int, allowed: Mapping[str, set[str]]) -> Iterator[int]:
        """Yield where the field after `part` may end."""
        field, following = self.parts[part + 1], self.parts[part + 2]
        last = part + 2 == len(self.parts) - 1
        if self._is_adjacent(part) and field != MEASURE:
            yield from self._find_occasion_ends(name, start, field, allowed.get(field, set()))
        elif not following and not last:
            yield from self._find_measure_ends(name, start, self.parts[part + 3], allowed)
        elif last and not following:
            if start < len(name):
                yield len(name)
        else:
            end = name.find(following, start + 1)
            while end >= 0:
                yield end
                end = name.find(following, end + 1)

    def _find_occasion_ends(self, name: str, start: int, field: str, texts: set[str]) -> Iterator[int]:
        """Yield where an occasion with nothing fixed beside it ends: after an expected text, else after the run of
        digits.
        """
        if texts:
            yield from sorted({start + len(text) for text in texts if name.startswith(text, start)})
            return
        run = re.compile(r"\d+").match(name, start)
        if run:
            yield run.end()

    def _find_measure_ends(self, name: str, start: int, field: str, allowed: Mapping[str, set[str]]) -> Iterator[int]:
        """Yield where a measure may end that an occasion follows immediately."""
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
        """Return the one way in which a name fits, or None.

        Of several, those with expected occasions (`allowed`) come first, then those whose occasions are numbers.

        Raises UsageError if two readings are left; both are shown.
        """
        readings = self.find_readings(name, allowed)
        if len(readings) > 1 and allowed:
            expected = [
                reading for reading in readings if all(reading[field] in texts for field, texts in allowed.items())
            ]
            readings = expected or readings
        if len(readings) > 1:
            numbers = [reading for reading in readings if all(is_number(reading[field]) for field in self.occasions)]
            readings = numbers or readings
        if not readings:
            return None
        if len(readings) > 1:
            shown = ["; ".join(f"{key} = {value}" for key, value in reading.items()) for reading in readings[:2]]
            raise UsageError(
                f'The header template "{self.text}" fits the column {name} in two ways.',
                where=f"({shown[0]}) or ({shown[1]})",
                todo="Write more of the fixed text into the template.",
            )
        return readings[0]

    def format(self, measure: str, occasion: Mapping[str, Any]) -> str:
        """Return the column's name for a measure at an occasion."""
        texts = []
        for index, part in enumerate(self.parts):
            if index % 2 == 0:
                texts.append(part)
            else:
                value = occasion.get(part)
                text = measure if part == MEASURE else format_occasion(value, self.widths.get(part, 0))
                # A name without a space is easier to type.
                texts.append(text.replace(" ", "T") if isinstance(value, datetime.datetime) else text)
        return "".join(texts)


@lru_cache(maxsize=256)
def parse_pattern(text: str) -> HeaderTemplate:
    """Parse a dictionary name with braces, cached."""
    return HeaderTemplate.parse(text, measure_needed=False)


def match_pattern(template: HeaderTemplate, name: str) -> dict[str, str] | None:
    """Match a dictionary's template against a column name; None if it does not fit.

    Braces beside a letter match only a number: `sleep_m{month}` fits sleep_m3 but not sleep_max.
    """
    reading = template.read(name)
    if reading is None:
        return None
    for index in range(1, len(template.parts), 2):
        is_beside_letter = template.parts[index - 1][-1:].isalpha() or template.parts[index + 1][:1].isalpha()
        if is_beside_letter and template.parts[index] != MEASURE and not is_number(reading[template.parts[index]]):
            return None
    return reading


def format_occasion(value: object, width: int = 0) -> str:
    """Format an occasion's value as cells are written: 3.0 is 3, zero-padded to a width."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    return f"{value:0{width}d}" if width and isinstance(value, int) else str(value)


def parse_occasions(texts: Sequence[str]) -> list[Any]:
    """Parse occasion texts as numbers or dates if all of them are, else return them unchanged."""
    if all(is_number(text) for text in texts):
        numbers = [parse_number(text) for text in texts]
        return numbers if all(isinstance(number, int) for number in numbers) else [float(number) for number in numbers]
    if all(DATE.fullmatch(text) for text in texts):
        try:
            return [datetime.date.fromisoformat(text) for text in texts]
        except ValueError:
            return list(texts)
    return list(texts)


def natural_key(text: str) -> list[tuple[int, float, str]]:
    """Return a sorting key under which "visit 3" comes before "visit 12"."""
    return [(0, float(run), "") if run.isdecimal() else (1, 0.0, run) for run in re.split(r"(\d+)", text) if run]
