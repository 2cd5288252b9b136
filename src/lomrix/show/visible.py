"""Texts from data, made fit for a terminal: signs that would steer it are shown and do nothing."""

from __future__ import annotations

import re

# Control signs, marks of direction, separators of lines and paragraphs, and signs without any width or shape.
STEERING = re.compile("[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff]")


def visible(text: str) -> str:
    """A text in which every sign that would steer a terminal is written out.

    Examples
    --------
    >>> visible("a\\x1b[2J\\u202eb\\n")
    'a\\\\x1b[2J\\\\u202eb\\\\n'
    """
    return STEERING.sub(lambda found: ascii(found[0])[1:-1], text)
