"""Names that a person may have meant by one that is not known."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

LEAST_BEGINNING = 3
MOST = 3


def nearest(name: str, known: Iterable[str], most: int = MOST) -> list[str]:
    """Known names that are like one: few letters differ, or one of the two begins with the other.

    >>> nearest("maen", ["mean", "median", "min"]), nearest("nope.csv", ["roster.csv"]), nearest("--ke", ["--key"])
    (['mean'], [], ['--key'])
    """
    said, limit = name.casefold(), (len(name) + 1) // 4
    found = []
    for at, one in enumerate(dict.fromkeys(known)):
        other = one.casefold()
        short, long = sorted((said.lstrip("-"), other.lstrip("-")), key=len)
        begins = len(short) >= LEAST_BEGINNING and long.startswith(short)
        letters = Counter(said)
        letters.subtract(other)
        # Each change of a letter alters two counts at most.
        if begins or sum(map(abs, letters.values())) <= 2 * limit:
            changes = letters_changed(said, other)
            if begins or changes <= limit:
                found.append((changes, at, one))
    return [one for _, _, one in sorted(found)[:most]]


def advice(name: str, known: Iterable[str], otherwise: str, behind: str = "") -> str:
    """What to do about an unknown name: take a near one, with something behind it, or else do something."""
    near = [one + behind for one in nearest(name, known)]
    return f"Did you mean {' or '.join(filter(None, [', '.join(near[:-1]), near[-1]]))}?" if near else otherwise


def letters_changed(one: str, two: str) -> int:
    """The fewest letters to change, add, leave out or swap with their neighbour to make one text of the other.

    References
    ----------
    F. J. Damerau, "A technique for computer detection and correction of spelling errors", Communications of the ACM 7
    (1964), 171-176, with the table of R. A. Wagner and M. J. Fischer, Journal of the ACM 21 (1974), 168-173.

    >>> letters_changed("maen", "mean"), letters_changed("slep", "sleep"), letters_changed("", "ab")
    (1, 1, 2)
    """
    before: list[int] = []
    row = list(range(len(two) + 1))
    for at, letter in enumerate(one):
        earlier, before, row = before, row, [at + 1]
        for place, other in enumerate(two):
            least = min(before[place] + (letter != other), before[place + 1] + 1, row[place] + 1)
            if at and place and letter == two[place - 1] and one[at - 1] == other:
                least = min(least, earlier[place - 1] + 1)
            row.append(least)
    return row[-1]
