"""What a number looks like as text, in cells, headers, code lists and settings."""

from __future__ import annotations

import re
from typing import Literal, get_args

# The pattern is read by Python's re and by Arrow's regular expressions alike.
NUMBER_PATTERN = r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?"
WHOLE_PATTERN = r"[+-]?\d+"
NUMBER = re.compile(NUMBER_PATTERN)
WHOLE = re.compile(WHOLE_PATTERN)


def is_number(text: str) -> bool:
    """Return whether a text is a number.

    >>> [is_number(text) for text in ("12", "-0.5", "1e3", ".5", "+5", "1,5", "3 h", "")]
    [True, True, True, True, True, False, False, False]
    """
    return NUMBER.fullmatch(text) is not None


def is_whole(text: str) -> bool:
    """Return whether a text is a whole number in plain digits.

    >>> [is_whole(text) for text in ("12", "-9", "+5", "1e3", "3.0")]
    [True, True, True, False, False]
    """
    return WHOLE.fullmatch(text) is not None


def parse_number(text: str) -> int | float:
    """Parse a number: an int if written without point and exponent.

    Raises ValueError if the text is no number.

    >>> parse_number("12"), parse_number("1e3"), parse_number(".5"), parse_number("+5")
    (12, 1000.0, 0.5, 5)
    """
    if not is_number(text):
        raise ValueError(f"{text!r} is not a number")
    return int(text) if is_whole(text) else float(text)


Type = Literal["integer", "number", "string", "date", "datetime", "boolean"]
TYPES: tuple[Type, ...] = get_args(Type)
