"""Value maps: which value becomes which, in the words of a person.

watch: day=1, night=2            whole values
age: 16 to 29=young, 30 to 75=old, others=missing:odd
sleep_*: 999=missing:device failed
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass

from lomrix.core.errors import UsageError
from lomrix.core.table.code_list import RANGE

EXAMPLE = "Say ‹map=watch: day=1, night=2› or ‹map=age: 16 to 29=young, others=missing:out of range›."
# Days as they stand in cells: 2024-01-31 to 2024-06-30.
DAYS = re.compile(r"(\d{4}-\d{2}-\d{2})\s+to\s+(\d{4}-\d{2}-\d{2})")
OTHERS, MISSING = "others", "missing"
# A value in quotation marks may hold commas and equals signs.
PAIR = re.compile(r'\s*("[^"]*"|[^=,"]+)\s*=\s*("[^"]*"|[^,"]*)\s*(,|$)')


@dataclass(frozen=True)
class Pair:
    """One pair of a map.

    Parameters
    ----------
    old
        The whole value as text, `others`, or `missing`.
    new
        The new value as text; empty where the cell becomes missing.
    reason
        Why it becomes missing.
    low, high
        Both ends of a range of numbers, where `old` is one.
    from_day, to_day
        Both ends of a range of days as ISO texts, where `old` is one.
    """

    old: str
    new: str = ""
    reason: str = ""
    low: float | None = None
    high: float | None = None
    from_day: str = ""
    to_day: str = ""

    @property
    def is_range(self) -> bool:
        """True where the pair speaks of a range."""
        return self.low is not None or bool(self.from_day)

    @property
    def ends(self) -> tuple[float | str, float | str] | None:
        """Both ends of a range; None where it is none."""
        if self.low is not None and self.high is not None:
            return self.low, self.high
        return (self.from_day, self.to_day) if self.from_day else None

    def overlaps(self, other: Pair) -> bool:
        """True where two ranges have more in common than an end."""
        if self.low is not None and self.high is not None and other.low is not None and other.high is not None:
            return max(self.low, other.low) < min(self.high, other.high)
        days = bool(self.from_day and other.from_day)
        return days and max(self.from_day, other.from_day) < min(self.to_day, other.to_day)


def pair_of(old: str, new: str, quoted: bool = False, quoted_new: bool = False) -> Pair:
    """One pair from its two sides.

    Raises
    ------
    UsageError
        Where a range has its ends turned, or a side is empty.
    """
    if not old or (not new and not quoted):
        raise UsageError("A pair of the map has an empty side.", where=f"{old}={new}", todo=EXAMPLE)
    reason = new.partition(":")[2].strip() if new.startswith(MISSING + ":") else ""
    if (new == MISSING and not quoted_new) or (new.startswith(MISSING + ":") and not reason):
        raise UsageError(
            "A missing value needs its reason.",
            where=f"{old}={new}",
            todo='Write missing:refused; the word itself stands in quotation marks: 99="missing".',
        )
    if reason:
        new = ""
    found = None if quoted else RANGE.fullmatch(old) or DAYS.fullmatch(old)
    if not found:
        return Pair(old, new, reason)
    is_numbers = found.re is RANGE
    low, high = (float(found[1]), float(found[2])) if is_numbers else (0.0, 0.0)
    pair = Pair(old, new, reason, low, high) if is_numbers else Pair(old, new, reason, None, None, found[1], found[2])
    if low > high or pair.from_day > pair.to_day:
        raise UsageError("A range runs from the smaller to the larger value.", where=old, todo=EXAMPLE)
    return pair


def require_apart(pairs: Sequence[Pair], where: str) -> None:
    """Stop where a value is named twice, or two ranges have more than an end in common.

    Raises
    ------
    UsageError
        Naming both.
    """
    olds = [pair.old for pair in pairs]
    twice = next((old for old in olds if olds.count(old) > 1), None)
    if twice is not None:
        raise UsageError(f'The map names "{twice}" twice.', where=where, todo="Leave one of the two out.")
    for first, second in itertools.combinations([pair for pair in pairs if pair.ends], 2):
        if first.overlaps(second):
            raise UsageError(
                f'The ranges "{first.old}" and "{second.old}" overlap.', where=where,
                todo="Let one begin where the other ends.",
            )  # fmt: skip


def value_map(text: str) -> tuple[str, tuple[Pair, ...]]:
    """Read `COLUMNS: old=new, old=new`.

    Returns
    -------
    The choice of columns, and the pairs in order. A single value goes before a range that it lies in, and a value at
    the end of two ranges belongs to the first.

    Raises
    ------
    UsageError
        Where the map is not clear.
    """
    columns, colon, rest = text.partition(":")
    if not colon or not columns.strip() or not rest.strip():
        raise UsageError(f'The map "{text}" is not clear.', todo=EXAMPLE)
    pairs, at = [], 0
    while at < len(rest):
        found = PAIR.match(rest, at)
        if not found:
            raise UsageError(f'The map "{text}" is not clear.', where=rest[at:].strip(), todo=EXAMPLE)
        old, new = (side.strip() for side in found.groups()[:2])
        pairs.append(pair_of(old.strip('"'), new.strip('"'), old.startswith('"'), new.startswith('"')))
        at = found.end()
    require_apart(pairs, text)
    return columns.strip(), tuple(pairs)
