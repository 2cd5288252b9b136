"""Numbers with aligned decimals."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence

# Significant digits of the largest number of a column.
DIGITS = 6
# If the smallest number of a column would show fewer, each number is formatted on its own.
MIN_DIGITS = 2
MAX_DECIMALS = 9


def format_number(value: float) -> str:
    """Format a number with six significant digits.

    >>> [format_number(value) for value in (409.0, 44.18034, 1e20, 0.00001234)]
    ['409', '44.1803', '1e+20', '1.234e-05']
    """
    if math.isfinite(value) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return f"{value:.{DIGITS}g}"


def align_numbers(values: Sequence[float]) -> list[str]:
    """Format numbers with the same number of decimals.

    >>> align_numbers([442.718, 44.1803, 409])
    ['442.718', '44.180', '409.000']
    >>> align_numbers([1.5, 2.0]), align_numbers([1.0, 2.0]), align_numbers([1e6, 0.00025])
    (['1.5', '2.0'], ['1', '2'], ['1000000      ', '0.00025'])
    """
    texts = [format_number(value) for value in values]
    fraction_widths = [len(text) - text.index(".") if "." in text and "e" not in text else 0 for text in texts]
    uneven = [text + " " * (max(fraction_widths) - width) for text, width in zip(texts, fraction_widths, strict=True)]
    finite = [abs(value) for value in values if math.isfinite(value) and value]
    if not finite or max(finite) >= 10.0**15:
        return uneven
    decimals = max(DIGITS - 1 - math.floor(math.log10(max(finite))), 0)
    if decimals > MAX_DECIMALS:
        return uneven
    texts = [f"{value:.{decimals}f}" for value in values]
    smallest = min(finite)
    if round(smallest, decimals) < 10.0 ** (MIN_DIGITS - 1 - decimals) and any(value != int(value) for value in finite):
        return uneven
    needed = max((len(text.partition(".")[2].rstrip("0")) for text in texts), default=0)
    return [f"{value:.{needed}f}" for value in values]


# Control characters, direction marks, line and paragraph separators, and characters without width.
CONTROL = re.compile("[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff]")


def escape_controls(text: str) -> str:
    """Escape every control character in a text.

    >>> escape_controls("a\\x1b[2J\\u202eb\\n")
    'a\\\\x1b[2J\\\\u202eb\\\\n'
    """
    return CONTROL.sub(lambda found: ascii(found[0])[1:-1], text)
