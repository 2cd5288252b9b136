"""Value maps: which value becomes which, in the words of a person.

watch: day=1, night=2            whole values
age: 16 to 29=young, 30 to 75=old, others=missing:odd
sleep_*: 999=missing:device failed
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from lomrix.core.errors import UsageError
from lomrix.core.table.code_list import RANGE

EXAMPLE = "Say ‹map=watch: day=1, night=2› or ‹map=age: 16 to 29=young, others=missing:out of range›."
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
        Both ends of a range, where `old` is one.
    """

    old: str
    new: str = ""
    reason: str = ""
    low: float | None = None
    high: float | None = None

    @property
    def is_range(self) -> bool:
        """True where the pair speaks of a range of numbers."""
        return self.low is not None


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
    found = None if quoted else RANGE.fullmatch(old)
    if not found:
        return Pair(old, new, reason)
    low, high = float(found[1]), float(found[2])
    if low > high:
        raise UsageError("A range runs from the smaller to the larger value.", where=old, todo=EXAMPLE)
    return Pair(old, new, reason, low, high)


def value_map(text: str) -> tuple[str, tuple[Pair, ...]]:
    """Read `COLUMNS: old=new, old=new`.

    Returns
    -------
    The choice of columns, and the pairs in order; the first that fits a value counts.

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
    olds = [pair.old for pair in pairs]
    twice = next((old for old in olds if olds.count(old) > 1), None)
    if twice is not None:
        raise UsageError(f'The map names "{twice}" twice.', where=text, todo="Leave one of the two out.")
    return columns.strip(), tuple(pairs)
