"""Settings in messages: the core writes `‹expect=one-to-one›`, and each interface formats it in its own way."""

from __future__ import annotations

import keyword
import re
from collections.abc import Callable, Iterable

SETTING = re.compile(r"‹([a-z_]+)(?:=([^‹›]*))?›")


def format_settings(text: str, format_one: Callable[[str, str], str]) -> str:
    """Format the settings in a message, given a function of a setting's name and its value (may be empty).

    >>> format_settings("Use ‹expect=one-to-one›.", lambda name, value: f"--{name} {value}")
    'Use --expect one-to-one.'
    """
    return SETTING.sub(lambda match: format_one(match[1], match[2] or ""), text)


def format_operand(name: str) -> str:
    """Return a column as written in an expression: by its name alone if it is a valid one."""
    return name if name.isidentifier() and not keyword.iskeyword(name) else f"column({name!r})"


def split_list(text: str) -> tuple[str, ...]:
    """Split at commas and strip spaces.

    >>> split_list("vessel, month,")
    ('vessel', 'month')
    """
    return tuple(word.strip() for word in text.split(",") if word.strip())


def join_words(words: Iterable[str], last: str = "and") -> str:
    """Join words as a sentence lists them: spaces, case and zeros."""
    *others, final = words
    return f"{', '.join(others)} {last} {final}" if others else final


# At most this many are listed; the rest is only counted.
MOST_LISTED = 12


def shorten_list(texts: Iterable[str], most: int = MOST_LISTED) -> str:
    """Join texts with commas; beyond `most`, say how many more there are.

    >>> shorten_list(["sleep", "mood", "steps"]), shorten_list(["sleep", "mood", "steps"], 1)
    ('sleep, mood, steps', 'sleep and 2 more')
    """
    all_texts = list(texts)
    more = len(all_texts) - most
    return ", ".join(all_texts[:most]) + (f" and {more:,} more" if more > 0 else "")


def to_utf8(name: str) -> str:
    """Return a file's name as writable text: bytes that are not UTF-8 are spelled out.

    >>> to_utf8("caf\\udce9.csv")
    'caf\\\\xe9.csv'
    """
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
