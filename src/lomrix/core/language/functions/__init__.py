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

__all__ = ["across", "course", "dates", "groups", "missing", "numbers", "standing", "texts"]
