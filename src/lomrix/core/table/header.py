"""Header templates: how a measure and its occasion stand together in a column's name."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from lomrix.core.errors import UsageError

MEASURE = "measure"
NUMBER = re.compile(r"-?\d+(\.\d+)?")
BRACES = re.compile(r"\{([^{}]*)\}")
EXAMPLE = 'A template looks like "{measure}_m{month}": {measure} for the name, other braces for the occasion.'


@dataclass(frozen=True)
class HeaderTemplate:
    """A template such as `{measure}_m{month}`.

    Parameters
    ----------
    text
        The template as typed.
    parts
        Fixed texts and field names in turn: even places are texts (maybe empty), odd places are fields.
    """

    text: str
    parts: tuple[str, ...]

    @classmethod
    def parsed(cls, text: str, *, measure_needed: bool = True) -> HeaderTemplate:
        """Read a template.

        Raises
        ------
        UsageError
            Where braces are empty, repeated or left open, or `{measure}` or an occasion is wanting.
        """
        parts = tuple(BRACES.split(text))
        fields = parts[1::2]
        if any(brace in fixed for fixed in parts[::2] for brace in "{}"):
            raise UsageError(f'The header template "{text}" has a brace without its partner.', todo=EXAMPLE)
        if any(not name.isidentifier() for name in fields) or len(set(fields)) != len(fields):
            raise UsageError(f'The braces of the header template "{text}" need a different word each.', todo=EXAMPLE)
        if measure_needed and (MEASURE not in fields or len(fields) < 2):
            raise UsageError(f'The header template "{text}" needs {{measure}} and an occasion.', todo=EXAMPLE)
        return cls(text, parts)

    @property
    def occasions(self) -> tuple[str, ...]:
        """The occasion columns that the template names, in its order."""
        return tuple(name for name in self.parts[1::2] if name != MEASURE)

    def readings(self, name: str) -> list[dict[str, str]]:
        """Every way in which a column's name fits the template."""
        return [dict(zip(self.parts[1::2], values, strict=True)) for values in self._fits(name, 0, 0)]

    def _fits(self, name: str, start: int, part: int) -> Iterator[tuple[str, ...]]:
        fixed = self.parts[part]
        if not name.startswith(fixed, start):
            return
        start += len(fixed)
        if part + 1 == len(self.parts):
            if start == len(name):
                yield ()
            return
        last = part + 2 == len(self.parts) - 1
        for end in self._ends(name, start, part, last):
            for rest in self._fits(name, end, part + 2):
                yield (name[start:end], *rest)

    def _ends(self, name: str, start: int, part: int, last: bool) -> Iterator[int]:
        """Where the field after `part` may end."""
        following = self.parts[part + 2]
        touches = (part > 0 and not self.parts[part]) or (not following and not last)
        if touches and self.parts[part + 1] != MEASURE:  # nothing between it and a field: the longest run of digits
            run = re.compile(r"\d+").match(name, start)
            if run:
                yield run.end()
        elif not following and not last:  # an occasion follows straight after: end before a run of digits
            for end in range(start + 1, len(name)):
                if name[end].isdigit() and not name[end - 1].isdigit():
                    yield end
        elif last and not following:
            if start < len(name):
                yield len(name)
        else:
            end = name.find(following, start + 1)
            while end >= 0:
                yield end
                end = name.find(following, end + 1)

    def read(self, name: str) -> dict[str, str] | None:
        """The one way in which a name fits, None where it does not.

        Where several ways fit, those whose occasions are numbers come first.

        Raises
        ------
        UsageError
            Where two readings are left; both are shown.
        """
        readings = self.readings(name)
        if len(readings) > 1:
            numeric = [one for one in readings if all(NUMBER.fullmatch(one[field]) for field in self.occasions)]
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
                texts.append(measure if part == MEASURE else occasion_text(occasion[part]))
        return "".join(texts)


def occasion_text(value: Any) -> str:
    """An occasion's value as it stands in a column's name: 3.0 is 3."""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


def occasion_values(texts: Sequence[str]) -> list[int] | list[float] | list[str]:
    """Occasion texts as numbers where all of them are numbers, else as they are."""
    if all(NUMBER.fullmatch(text) for text in texts):
        if any("." in text for text in texts):
            return [float(text) for text in texts]
        return [int(text) for text in texts]
    return list(texts)


def natural_order(text: str) -> list[tuple[int, float, str]]:
    """A sorting key under which "visit 3" comes before "visit 12"."""
    return [(0, float(run), "") if run.isdecimal() else (1, 0.0, run) for run in re.split(r"(\d+)", text) if run]
