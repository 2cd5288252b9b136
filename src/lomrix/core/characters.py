"""Characters that look like others, or cannot be seen."""

from __future__ import annotations

import re
import unicodedata

INVISIBLE = "\u00ad\u200b\u200c\u200d\u200e\u200f\u2060\ufeff"
ALIKE = str.maketrans({
    **dict.fromkeys(INVISIBLE), **dict.fromkeys("\u2018\u2019\u201b\u02bc\u00b4", "'"),
    **dict.fromkeys("\u201c\u201d\u201e", '"'), **dict.fromkeys("\u2010\u2011\u2012\u2013\u2014\u2212", "-"),
})  # fmt: skip
# Characters that are hardly meant: no-break spaces, invisible ones, and accents apart from their letters.
HARDLY_MEANT = r"[\x{a0}\x{202f}\x{ad}\x{200b}-\x{200f}\x{2060}\x{feff}\x{300}-\x{36f}]"


def unify_characters(text: str) -> str:
    """Return a text in which what looks alike is the same: letters with their accents, plain spaces, dashes and
    apostrophes, and nothing invisible.

    >>> unify_characters("A\\u030ase\\u00a0O\\u2019Neill\\u200b") == "\\u00c5se O'Neill"
    True
    """
    return text if text.isascii() else unicodedata.normalize("NFKC", text).translate(ALIKE)


def make_plain_name(name: str) -> str:
    """Return a name as it can be typed: without line breaks, no-break spaces and what cannot be seen.

    >>> make_plain_name("Sleep\\n(h)"), make_plain_name("i\\u200bd "), make_plain_name("A\\u030age") == "\\u00c5ge"
    ('Sleep (h)', 'id', True)
    """
    composed = unicodedata.normalize("NFC", name).translate(dict.fromkeys(map(ord, INVISIBLE)))
    return re.sub(r"\s*[^\S ]\s*", " ", composed).strip()


def describe_likeness(first: str, second: str) -> str:
    """Say why two different texts look the same; empty if they do not."""
    return (
        " (they look alike, but have other characters)" if unify_characters(first) == unify_characters(second) else ""
    )
