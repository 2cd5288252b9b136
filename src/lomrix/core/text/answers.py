"""Several answers in one cell, such as 1;3;5."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

# Between several answers, in the order in which they are looked for.
SEPARATORS = (";", "|", ",", "\n", " ")
# There are no more different answers than this, and none is longer.
MOST_ANSWERS, LONGEST_ANSWER = 30, 40
# Answers occur in several cells: those of at least this share of the cells with several.
MOSTLY = 0.5


def split_answers(text: str, separator: str) -> list[str]:
    """Split a cell into its answers.

    >>> split_answers("headache; tired;", ";"), split_answers("tired", "")
    (['headache', 'tired'], ['tired'])
    """
    parts = text.split(separator) if separator else [text]
    return [part.strip() for part in parts if part.strip()]


def find_separator(texts: Iterable[str]) -> str:
    """Return what separates answers in some distinct texts, if several of these have several of a few answers.

    >>> find_separator(["1;3", "2", "1;2;5"]), find_separator(["Oslo, Norway", "Bergen, Norway"])
    (';', '')
    """
    texts = list(texts)
    return next((separator for separator in SEPARATORS if separates_answers(texts, separator)), "")


def separates_answers(texts: Sequence[str], separator: str) -> bool:
    """Return whether a separator divides texts into a few answers that are repeated."""
    given = [split_answers(text, separator) for text in texts]
    several = [answers for answers in given if len(answers) > 1]
    # A town and its country are always two.
    if len(several) < 2 or max(map(len, several)) < 3:
        return False
    counts = Counter(answer for answers in given for answer in {*answers})
    # Words between spaces are mostly sentences, and numbers are not.
    if separator == " " and not all(answer.isdecimal() for answer in counts):
        return False
    repeated = sum(any(counts[answer] > 1 for answer in answers) for answers in several)
    are_short = len(counts) <= MOST_ANSWERS and max(map(len, counts)) <= LONGEST_ANSWER
    return are_short and repeated >= MOSTLY * len(several)
