"""The rules for one distinct text: number, date, missing-value token or id."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable

from lomrix.core.table.numbers import NUMBER_PATTERN, WHOLE_PATTERN
from lomrix.core.table.reasons import BUILT_IN

# Used in files for "no value"; missing only if the rest of the column is numbers or dates.
USUAL_TOKENS = frozenset(
    [
        *("na", "n/a", "n.a.", "#n/a", "n/r", "nr", ".", "..", "...", "-", "--", "---", "?", "??", "*"),
        *("null", "none", "nil", "nan", "missing", "unknown", "absent"),
        *("#null!", "#div/0!", "#value!", "#ref!", "#num!", "#name?"),
        *BUILT_IN,
    ]
)

# Tokens that are words, and so may be values if a column holds nothing else.
WORDS_FOR_MISSING = frozenset(["none", "nil", "missing", "unknown", "absent", *BUILT_IN])

NUMBER = NUMBER_PATTERN
WHOLE = WHOLE_PATTERN
# Digits that mark ids and stay text: leading zeros, over 15 digits, an E between digits, a plus before five.
ID_LIKE = r"[+-]?0\d+.*|[+-]?\d{16,}.*|\d+E\d+|\+\d{5,}"
DATE = r"\d{4}-\d{2}-\d{2}"
DATETIME = r"\d{4}-\d{2}-\d{2}[T ]([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d{1,6})?)?"
BOOLEAN = r"(?i:true|false)"
# Day and month are ambiguous, so these are never guessed.
UNCLEAR_DATE = r"\d{1,2}[/.\-]\d{1,2}[/.\-](\d{4}|\d{2})"
# The time of a timestamp that only says a day.
MIDNIGHT = r"[ T]0?0:00(:00(\.0+)?)?$"
NONZERO = r"[^eE]*[1-9].*"
COMMA_NUMBER = r"[+-]?\d+,\d+"
# Groups of three digits; which separator stands between them is in the names.
THOUSANDS = {
    "thousands-comma": (",", r"[+-]?\d{1,3}(,\d{3})+(\.\d+)?"),
    "thousands-point": (".", r"[+-]?\d{1,3}(\.\d{3})+,\d+|[+-]?\d{1,3}(\.\d{3}){2,}"),
    "thousands-space": (" ", r"[+-]?\d{1,3}([ \x{a0}\x{202f}]\d{3})+([.,]\d+)?"),
}
PERCENT = r"[+-]?\d+([.,]\d+)? ?%"
CURRENCY = r"[+-]?[$€£¥] ?\d[\d.,]*|[+-]?\d[\d.,]* ?[$€£¥]"
# A number and its unit, such as 70 kg; a letter right after it is more likely part of an id.
WITH_UNIT = r"[+-]?\d+([.,]\d+)?( ?[A-Za-zµ°]{2,8}| [A-Za-zµ°])"
# Below or above what can be measured.
LIMIT = r"[<>≤≥]=? ?\d+(\.\d+)?"
# A code alone, or with its label, such as 1 = never.
CODE, DECIMAL = r"-?\d{1,15}", r"-?\d+\.\d+"
CODED = r"(-?\d{1,4}) ?[=:.)-] ?(\D.*)"
# What stands for a minus and is none: dashes, and the sign of mathematics.
DASH = "[\u2010-\u2015\u2212]"
# Two numbers in a cell, as blood pressure is written.
PAIR = r"\d{1,3}(\.\d+)? ?/ ?\d{1,3}(\.\d+)?"
CLOCK = r"\d{1,3}:[0-5]\d(:[0-5]\d)?"
# A point among three-digit groups, which may stand between thousands.
POINT_GROUP = r"[+-]?[1-9]\d{0,2}\.\d{3}"
WITH_OFFSET = DATETIME + r" ?(Z|[+-]([01]\d|2[0-3])(:?[0-5]\d)?)"
# Cells that may be meant as dates, with month names in letters.
ANY_DATE = r"\d{1,4}[/.\- ][A-Za-z0-9]{1,9}[/.\- ]\d{1,4}([ T].*)?|[A-Za-z]{3,9} \d{1,2},? \d{2,4}([ T].*)?"

PATTERNS = {
    "integer": WHOLE,
    "number": NUMBER,
    "date": DATE,
    "datetime": DATETIME,
    "boolean": BOOLEAN,
    "unclear-date": UNCLEAR_DATE,
    **{kind: pattern.replace(r"\x{a0}\x{202f}", "\u00a0\u202f") for kind, (_, pattern) in THOUSANDS.items()},
    "comma-number": COMMA_NUMBER,
    "percent": PERCENT,
    "currency": CURRENCY,
    "with-unit": WITH_UNIT,
    "limit": LIMIT,
    "clock": CLOCK,
    "pair": PAIR,
    "moment-with-offset": WITH_OFFSET,
}
# One pattern with a group for each kind, since the first that fits counts.
ANY_KIND = re.compile("|".join(f"(?P<{kind.replace('-', '_')}>{pattern})" for kind, pattern in PATTERNS.items()))
KEPT_DIGITS = re.compile(ID_LIKE)


def find_codes(texts: Iterable[str]) -> dict[str, tuple[int, str]]:
    """Return the codes that texts have already, with their labels: those that are whole numbers, or begin with a code.

    Texts with the same code have the same label, or one is the code alone; others have none.

    >>> find_codes(["0 = never", "2 - often", "2", "9", "no answer"])
    {'2': (2, 'often'), '9': (9, '9'), '0 = never': (0, 'never'), '2 - often': (2, 'often')}
    >>> find_codes(["1-2 times", "3 times"]), find_codes(["1: a", "1: b", "3"]), find_codes(["7", "007"])
    ({}, {'3': (3, '3')}, {'7': (7, '7')})
    >>> find_codes(["1 = a", "1 = a "])
    {'1 = a': (1, 'a'), '1 = a ': (1, 'a')}
    """
    texts = list(texts)
    matches = {text: match for text in texts if (match := re.fullmatch(CODED, text.strip()))}
    pairs = {(int(match[1]), match[2].strip()) for match in matches.values()}
    labels = dict(pairs)
    if len(labels) < len(pairs):
        matches, labels = {}, {}
    numbers = [text for text in texts if re.fullmatch(CODE, text)]
    own = {int(text): text for text in sorted(numbers, key=len, reverse=True)}
    plain = {text: (code, labels.get(code, text)) for code, text in own.items()}
    return plain | {text: (int(match[1]), match[2].strip()) for text, match in matches.items()}


@functools.lru_cache(maxsize=1 << 14)  # the columns of a wide file hold the same few texts
def classify_text(text: str) -> str:
    """Classify a text:

    `integer number date datetime boolean token keep blank text`, or one that may be meant as a date, number or time:
    `unclear-date comma-number moment-with-offset percent currency with-unit limit clock pair thousands-…`. `keep` are
    digits that must stay text, such as ids.
    """
    text = text.strip()
    if not text:
        return "blank"
    match = ANY_KIND.fullmatch(text)
    if match is None:
        return "token" if text.casefold() in USUAL_TOKENS else "text"
    kind = str(match.lastgroup).replace("_", "-")
    return "keep" if kind in ("integer", "number") and KEPT_DIGITS.fullmatch(text) else kind
