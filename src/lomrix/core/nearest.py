"""Suggest known names for an unknown one, and find texts that are hardly different."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from lomrix.core.characters import unify_characters
from lomrix.core.wording import join_words

MIN_BEGINNING = 3
MAX_NAMES = 3


def find_nearest_names(name: str, known: Iterable[str], most: int = MAX_NAMES) -> list[str]:
    """Find known names that are similar: few letters differ, or one begins with the other.

    >>> find_nearest_names("maen", ["mean", "median", "min"]), find_nearest_names("nope.csv", ["roster.csv"])
    (['mean'], [])
    """
    folded, limit = name.casefold(), (len(name) + 1) // 4
    matches = []
    for index, candidate in enumerate(dict.fromkeys(known)):
        other = candidate.casefold()
        short, long = sorted((folded.lstrip("-"), other.lstrip("-")), key=len)
        begins = len(short) >= MIN_BEGINNING and long.startswith(short)
        letters = Counter(folded)
        letters.subtract(other)
        # Each change of a letter alters two counts at most.
        if begins or sum(map(abs, letters.values())) <= 2 * limit:
            changes = count_changes(folded, other)
            if begins or changes <= limit:
                matches.append((changes, index, candidate))
    return [candidate for _, _, candidate in sorted(matches)[:most]]


def advise(name: str, known: Iterable[str], otherwise: str, behind: str = "") -> str:
    """Advise a similar name, with something after it, or else something else."""
    near = [candidate + behind for candidate in find_nearest_names(name, known)]
    return f"Did you mean {join_words(near, 'or')}?" if near else otherwise


def count_changes(first: str, second: str) -> int:
    """Count the fewest letters to change, add, remove or swap with their neighbour to make two texts equal.

    References
    ----------
    F. J. Damerau, "A technique for computer detection and correction of spelling errors", Communications of the ACM 7
    (1964), 171-176, with the table of R. A. Wagner and M. J. Fischer, Journal of the ACM 21 (1974), 168-173.

    >>> count_changes("maen", "mean"), count_changes("slep", "sleep"), count_changes("", "ab")
    (1, 1, 2)
    """
    before: list[int] = []
    row = list(range(len(second) + 1))
    for index, letter in enumerate(first):
        earlier, before, row = before, row, [index + 1]
        for position, other in enumerate(second):
            least = min(before[position] + (letter != other), before[position + 1] + 1, row[position] + 1)
            if index and position and letter == second[position - 1] and first[index - 1] == other:
                least = min(least, earlier[position - 1] + 1)
            row.append(least)
    return row[-1]


def find_near_duplicates(texts: Sequence[str], counts: Sequence[int]) -> list[list[tuple[str, int]]]:
    """Return groups of distinct texts that differ only in case, spaces or characters that look alike, with their
    numbers of cells.

    >>> find_near_duplicates(["carnica", "CARNICA", "ligustica"], [2, 1, 1])
    [[('carnica', 2), ('CARNICA', 1)]]
    """
    alike: dict[str, list[tuple[str, int]]] = {}
    for text, count in zip(texts, counts, strict=True):
        alike.setdefault(" ".join(unify_characters(text).casefold().split()), []).append((text, count))
    return [sorted(group, key=lambda pair: -pair[1]) for group in alike.values() if len(group) > 1]


def name_difference(texts: Iterable[str]) -> str:
    """Name what near duplicates differ in."""
    are_plain = len({" ".join(text.casefold().split()) for text in texts}) == 1
    return "capitals or spaces" if are_plain else "characters that look alike"
