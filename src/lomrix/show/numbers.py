"""Numbers as they stand under each other in a column."""

from __future__ import annotations

import math
from collections.abc import Sequence

# So many digits that count are shown of the largest number of a column.
DIGITS = 6
# The smallest number of a column shows this many, else each number is written for itself.
LEAST_DIGITS = 2
MOST_PLACES = 9


def number_text(value: float) -> str:
    """One number to six digits that count, and no more than it needs.

    Examples
    --------
    >>> [number_text(value) for value in (409.0, 44.18034, 1e20, 0.00001234)]
    ['409', '44.1803', '1e+20', '1.234e-05']
    """
    if math.isfinite(value) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return f"{value:.{DIGITS}g}"


def aligned_numbers(values: Sequence[float]) -> list[str]:
    """Numbers with one number of decimal places, so that their decimals stand under each other.

    Examples
    --------
    >>> aligned_numbers([442.718, 44.1803, 409])
    ['442.718', '44.180', '409.000']
    >>> aligned_numbers([1.5, 2.0]), aligned_numbers([1.0, 2.0]), aligned_numbers([1e6, 0.00025])
    (['1.5', '2.0'], ['1', '2'], ['1000000      ', '0.00025'])
    """
    texts = [number_text(value) for value in values]
    behind = [len(text) - text.index(".") if "." in text and "e" not in text else 0 for text in texts]
    uneven = [text + " " * (max(behind) - own) for text, own in zip(texts, behind, strict=True)]
    finite = [abs(value) for value in values if math.isfinite(value) and value]
    if not finite or max(finite) >= 10.0**15:
        return uneven
    places = max(DIGITS - 1 - math.floor(math.log10(max(finite))), 0)
    if places > MOST_PLACES:
        return uneven
    texts = [f"{value:.{places}f}" for value in values]
    least = min(finite)
    if round(least, places) < 10.0 ** (LEAST_DIGITS - 1 - places) and any(value != int(value) for value in finite):
        return uneven
    needed = max((len(text.partition(".")[2].rstrip("0")) for text in texts), default=0)
    return [f"{value:.{needed}f}" for value in values]
