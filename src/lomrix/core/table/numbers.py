"""What a number looks like in text: the same in a cell, a header, a list of codes and a setting."""

from __future__ import annotations

import re

# The pattern is read by Python's re and by Arrow's regular expressions alike.
NUMBER_PATTERN = r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?"
WHOLE_PATTERN = r"[+-]?\d+"
NUMBER = re.compile(NUMBER_PATTERN)
WHOLE = re.compile(WHOLE_PATTERN)


def is_number(text: str) -> bool:
    """True where a text is a number.

    Examples
    --------
    >>> [is_number(text) for text in ("12", "-0.5", "1e3", ".5", "+5", "1,5", "3 h", "")]
    [True, True, True, True, True, False, False, False]
    """
    return NUMBER.fullmatch(text) is not None


def is_whole(text: str) -> bool:
    """True where a text is a whole number in plain digits.

    Examples
    --------
    >>> [is_whole(text) for text in ("12", "-9", "+5", "1e3", "3.0")]
    [True, True, True, False, False]
    """
    return WHOLE.fullmatch(text) is not None


def number_of(text: str) -> int | float:
    """The number that a text stands for: an int where it is written without point and exponent.

    Raises
    ------
    ValueError
        Where the text is no number.

    Examples
    --------
    >>> number_of("12"), number_of("1e3"), number_of(".5"), number_of("+5")
    (12, 1000.0, 0.5, 5)
    """
    if not is_number(text):
        raise ValueError(f"{text!r} is no number")
    return int(text) if is_whole(text) else float(text)
