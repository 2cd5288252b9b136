"""The type that a sample of texts suggests."""

from __future__ import annotations

from collections import Counter

from lomrix.core.table.types import Type
from lomrix.core.text.resemblance import MOSTLY


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
