"""The type that a sample of texts points at."""

from __future__ import annotations

from collections import Counter

from lomrix.core.table.types import Type
from lomrix.core.text.resemblance import MOSTLY


def likely_type(kinds: Counter[str]) -> Type:
    """The type that a sample of cells points at; only the cells themselves decide whether it holds."""
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


def likely_number(kinds: Counter[str]) -> Type | None:
    """Integer or number where a few cells are nothing else; None where that needs a closer look."""
    if not kinds or set(kinds) - {"integer", "number"}:
        return None
    return "number" if kinds["number"] else "integer"
