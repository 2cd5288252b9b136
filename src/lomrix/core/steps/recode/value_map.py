"""Value maps: which value becomes which."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass

from lomrix.core.errors import UsageError
from lomrix.core.table.codes import RANGE

EXAMPLE = "Use ‹map=watch: day=1, night=2› or ‹map=age: 16 to 29=young, others=missing:out of range›."
# Days as in cells: 2024-01-31 to 2024-06-30.
DAYS = re.compile(r"(\d{4}-\d{2}-\d{2})\s+to\s+(\d{4}-\d{2}-\d{2})")
OTHERS, MISSING = "others", "missing"
# A value in quotation marks may hold commas and equals signs.
PAIR = re.compile(r'\s*("[^"]*"|[^=,"]+)\s*=\s*("[^"]*"|[^,"]*)\s*(,|$)')


@dataclass(frozen=True)
class Pair:
    """One pair of a map."""

    old: str  # the whole value as text, `others`, or `missing`
    new: str = ""  # the new value as text; empty where the cell becomes missing
    reason: str = ""  # why it becomes missing
    low: float | None = None  # both ends of a range of numbers, where `old` is one
    high: float | None = None
    from_day: str = ""  # both ends of a range of days as ISO texts, where `old` is one
    to_day: str = ""

    @property
    def is_range(self) -> bool:
        """True if the pair is for a range."""
        return self.low is not None or bool(self.from_day)

    @property
    def ends(self) -> tuple[float | str, float | str] | None:
        """Both ends of a range; None for a single value."""
        if self.low is not None and self.high is not None:
            return self.low, self.high
        return (self.from_day, self.to_day) if self.from_day else None

    def overlaps(self, other: Pair) -> bool:
        """Return whether two ranges share more than an end."""
        if self.low is not None and self.high is not None and other.low is not None and other.high is not None:
            return max(self.low, other.low) < min(self.high, other.high)
        days = bool(self.from_day and other.from_day)
        return days and max(self.from_day, other.from_day) < min(self.to_day, other.to_day)


def make_pair(old: str, new: str, quoted: bool = False, quoted_new: bool = False) -> Pair:
    """Make one pair from its two sides.

    Raises UsageError if a range is reversed, or a side is empty.
    """
    if not old or (not new and not quoted):
        raise UsageError("A pair of the map has an empty side.", where=f"{old}={new}", todo=EXAMPLE)
    reason = new.partition(":")[2].strip() if new.startswith(MISSING + ":") else ""
    if (new == MISSING and not quoted_new) or (new.startswith(MISSING + ":") and not reason):
        raise UsageError(
            "A missing value needs its reason.",
            where=f"{old}={new}",
            todo='Write missing:refused; the word itself needs quotation marks: 99="missing".',
        )
    if reason:
        new = ""
    match = None if quoted else RANGE.fullmatch(old) or DAYS.fullmatch(old)
    if not match:
        return Pair(old, new, reason)
    is_numbers = match.re is RANGE
    low, high = (float(match[1]), float(match[2])) if is_numbers else (0.0, 0.0)
    pair = Pair(old, new, reason, low, high) if is_numbers else Pair(old, new, reason, None, None, match[1], match[2])
    if low > high or pair.from_day > pair.to_day:
        raise UsageError("A range must run from the smaller to the larger value.", where=old, todo=EXAMPLE)
    return pair


def require_disjoint(pairs: Sequence[Pair], where: str) -> None:
    """Stop if a value is named twice, or two ranges share more than an end.

    Raises UsageError naming both.
    """
    olds = [pair.old for pair in pairs]
    repeated = next((old for old in olds if olds.count(old) > 1), None)
    if repeated is not None:
        raise UsageError(f'The map names "{repeated}" twice.', where=where, todo="Leave one of the two out.")
    for first, second in itertools.combinations([pair for pair in pairs if pair.ends], 2):
        if first.overlaps(second):
            raise UsageError(
                f'The ranges "{first.old}" and "{second.old}" overlap.', where=where,
                todo="Let one begin where the other ends.",
            )  # fmt: skip


def parse_map(text: str) -> tuple[str, tuple[Pair, ...]]:
    """Parse `COLUMNS: old=new, old=new`.

    A single value takes precedence over a range that includes it, and a value at the end of two ranges belongs to the
    first.

    Raises UsageError if the map is not valid.
    """
    columns, colon, pairs_text = text.partition(":")
    if not colon or not columns.strip() or not pairs_text.strip():
        raise UsageError(f'The map "{text}" is not valid.', todo=EXAMPLE)
    pairs, index = [], 0
    while index < len(pairs_text):
        match = PAIR.match(pairs_text, index)
        if not match:
            raise UsageError(f'The map "{text}" is not valid.', where=pairs_text[index:].strip(), todo=EXAMPLE)
        old, new = (side.strip() for side in match.groups()[:2])
        pairs.append(make_pair(old.strip('"'), new.strip('"'), old.startswith('"'), new.startswith('"')))
        index = match.end()
    require_disjoint(pairs, text)
    return columns.strip(), tuple(pairs)
