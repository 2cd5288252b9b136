"""Make text from data safe for a terminal: control characters are shown and have no effect."""

from __future__ import annotations

import re

# Control characters, direction marks, line and paragraph separators, and characters without width.
CONTROL = re.compile("[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff]")


def escape_controls(text: str) -> str:
    """Escape every control character in a text.

    Examples
    --------
    >>> escape_controls("a\\x1b[2J\\u202eb\\n")
    'a\\\\x1b[2J\\\\u202eb\\\\n'
    """
    return CONTROL.sub(lambda found: ascii(found[0])[1:-1], text)
