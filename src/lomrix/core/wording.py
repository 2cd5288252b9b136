"""Settings in messages: the core names a setting, and each face words it in its own way.

A message says `‹expect=one-to-one›`: the command line makes `--expect one-to-one` of it, a plan
`expect = "one-to-one"`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

SETTING = re.compile(r"‹([a-z_]+)(?:=([^‹›]*))?›")


def worded(text: str, word: Callable[[str, str], str]) -> str:
    """A message with its settings in the words of a face.

    Parameters
    ----------
    text
        The message.
    word
        Given the name of a setting and its value (empty where none is said), how the face words it.

    Examples
    --------
    >>> worded("Say ‹expect=one-to-one›.", lambda name, value: f"--{name} {value}")
    'Say --expect one-to-one.'
    """
    return SETTING.sub(lambda found: word(found[1], found[2] or ""), text)


def listed(words: str) -> tuple[str, ...]:
    """Words with commas between, without blanks around them.

    Examples
    --------
    >>> listed("vessel, month,")
    ('vessel', 'month')
    """
    return tuple(word.strip() for word in words.split(",") if word.strip())


# So many of a kind are named; of the others only their number is told.
MOST_NAMED = 12


def some_of(texts: Iterable[str], most: int = MOST_NAMED) -> str:
    """Texts with commas between; how many there are beyond the first ones is told.

    Examples
    --------
    >>> some_of(["sleep", "mood", "steps"]), some_of(["sleep", "mood", "steps"], 1)
    ('sleep, mood, steps', 'sleep and 2 more')
    """
    every = list(texts)
    more = len(every) - most
    return ", ".join(every[:most]) + (f" and {more:,} more" if more > 0 else "")


def in_utf8(name: str) -> str:
    """The name of a file as text that can be written: bytes that are no UTF-8 are spelled out.

    Examples
    --------
    >>> in_utf8("caf\\udce9.csv")
    'caf\\\\xe9.csv'
    """
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
