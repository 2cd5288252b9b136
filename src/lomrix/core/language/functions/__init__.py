"""The functions of the language, by kind; loading this package makes all of them known."""

from lomrix.core.language.functions import (
    across,
    course,
    dates,
    groups,
    missing,
    numbers,
    standing,
    texts,
)

# The kinds of functions in the order in which they are shown.
KINDS = tuple(one.KIND for one in (numbers, across, course, groups, standing, dates, texts, missing))

__all__ = ["KINDS", "across", "course", "dates", "groups", "missing", "numbers", "standing", "texts"]
