"""What a column of text resembles, so that a person can state how to read it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.table.numbers import Type
from lomrix.core.text import rules
from lomrix.core.text.dates import guess_date_forms

# A column resembles what at least this share of its present cells look like.
MOSTLY = 0.5
NEARLY_ALL = 0.75
SEPARATOR_NAMES = {",": "a comma", ".": "a point", " ": "a space"}


@dataclass(frozen=True)
class Similarity:
    """What the cells look like.

    `kind` is one of `decimal-comma thousands with-sign unclear-date digits-kept offset`; `pattern` is the regular
    expression of the cells concerned.
    """

    kind: str
    text: str
    pattern: str

    def cells(self, texts: pa.Array) -> npt.NDArray[np.bool_]:
        """Return for each text whether it is concerned; nulls are not."""
        matches = pc.match_substring_regex(pc.utf8_trim_whitespace(texts), f"^({self.pattern})$")
        return np.array(pc.fill_null(matches, False).to_numpy(zero_copy_only=False), np.bool_)


def find_similarity(name: str, counts: Mapping[str, int], decimal: str = ".", thousands: str = "") -> Similarity | None:
    """Return what some distinct texts (with their counts) resemble, given the separators in use; None if they are just
    text.
    """
    kinds = {text: rules.classify_text(text) for text in counts}
    present = sum(count for text, count in counts.items() if kinds[text] not in ("token", "blank"))
    if not present:
        return None

    def share(*wanted: str) -> float:
        return sum(count for text, count in counts.items() if kinds[text] in wanted) / present

    numbers = share("integer", "number")
    for kind, (symbol, pattern) in rules.THOUSANDS.items():
        # Among groups of three digits a comma may still be a decimal separator, but it hardly is in every cell.
        if not thousands and share(kind) and share(kind) + numbers >= MOSTLY and not share("comma-number"):
            points = " and ‹decimal=,›" if symbol == "." else ""
            text = f"looks like numbers with {SEPARATOR_NAMES[symbol]} between thousands"
            text += f"; if they are, use ‹thousands={symbol}›{points}"
            text += "; if the comma is a decimal separator, add ‹decimal=,›" if symbol == "," else ""
            return Similarity("thousands", text, pattern)
    for kind, symbol, pattern in (("percent", "%", rules.PERCENT), ("currency", "a currency sign", rules.CURRENCY)):
        if share(kind) and share(kind) + numbers >= MOSTLY:
            text = f"looks like numbers with {symbol}, and stays text; derive the number: to_number(part({name}, "
            return Similarity("with-sign", text + "'[-+0-9.]+'))", pattern)
    if decimal == "." and share("comma-number") and share("comma-number") + numbers >= MOSTLY:
        text = "looks like numbers with a decimal comma; if it is, use ‹decimal=,›"
        return Similarity("decimal-comma", text, rules.COMMA_NUMBER)
    if share("moment-with-offset") >= MOSTLY:
        text = "timestamps with a UTC offset are kept as text."
        return Similarity("offset", text, rules.WITH_OFFSET)
    kept = sum(count for text, count in counts.items() if kinds[text] == "keep")
    # Ids of one length begin with zeros where they are small; the only cell of many that does is hardly one of them.
    is_no_id = (kept == 1 and numbers >= NEARLY_ALL) or len({len(text.strip()) for text in counts}) > 1
    parsed_otherwise = any(kind == "keep" and re.search(r"E|\+", text) for text, kind in kinds.items())
    if kept and ((numbers >= MOSTLY and is_no_id) or (parsed_otherwise and numbers + kept / present >= MOSTLY)):
        text = "stays text because of cells that look like ids (leading zeros, over 15 digits, 12E4, +49123); "
        # Whole numbers of up to 18 digits are held to the last digit.
        digits = [text.strip() for text, kind in kinds.items() if kind in ("integer", "number", "keep")]
        type_ = "integer" if all(re.fullmatch(rules.WHOLE, text) for text in digits) else "number"
        text += f"if they are numbers, use ‹type={name}={type_}›"
        return Similarity("digits-kept", text, rules.ID_LIKE)
    others = [text for text in counts if kinds[text] in ("unclear-date", "text")]
    if share("unclear-date", "text") >= MOSTLY and (form := guess_date_forms(others)):
        type_ = "datetime" if "%H" in form else "date"
        several = " in several forms" if "|" in form or share("date", "datetime") else ""
        text = f"looks like dates{several}; use ‹type={name}={type_}:{form.removeprefix('?')}› to read it so"
        text += ", if the day comes first." if form.startswith("?") else "."
        return Similarity("unclear-date", text, rules.ANY_DATE)
    return None


def guess_type(kinds: Counter[str]) -> Type:
    """Return the type that a sample suggests; only all cells decide whether it holds."""
    present = sum(kinds.values()) - kinds["token"] - kinds["blank"]
    if not present:
        return "integer"
    if kinds["keep"]:
        return "string"
    numbers = kinds["integer"] + kinds["number"]
    if numbers >= MOSTLY * present:
        return "number" if kinds["number"] else "integer"
    dates = kinds["date"] + kinds["datetime"]
    if dates >= MOSTLY * present:
        return "datetime" if kinds["datetime"] else "date"
    return "boolean" if kinds["boolean"] == present else "string"


def guess_number_type(kinds: Counter[str]) -> Type | None:
    """Return integer or number if a few cells are nothing else; None if more must be examined."""
    if not kinds or set(kinds) - {"integer", "number"}:
        return None
    return "number" if kinds["number"] else "integer"
