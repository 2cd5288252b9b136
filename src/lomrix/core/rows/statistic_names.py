"""The names of statistics, and which of them a column type has; without NumPy, so that settings can use them."""

from __future__ import annotations

import re

COUNTING = ("n", "missing", "distinct")
COMPUTED = ("mean", "sd", "variance", "se", "ci", "median", "q25", "q75", "iqr", "min", "max", "sum")
OF_A_ROW = ("first", "last", "commonest")
KNOWN = (*COUNTING, *COMPUTED, *OF_A_ROW)
# Statistics that are a value of the variable or lie between two; dates have them too.
SAME_KIND = ("min", "max", "median", "q25", "q75")
# Statistics that can be weighted.
WITH_WEIGHTS = ("n", "missing", "mean", "sd", "variance", "sum")
QUANTILE = re.compile(r"q(\d{1,2})")
SHARE = re.compile(r"share\(([^()]+)\)")
ANY_SHARE = "share(value)"
NUMERIC = ("integer", "number", "boolean")


def is_statistic(name: str) -> bool:
    """Return whether a word is a statistic."""
    return name in KNOWN or bool(QUANTILE.fullmatch(name) or SHARE.fullmatch(name))


def list_allowed(type_: str) -> tuple[str, ...]:
    """Return the statistics of a column type."""
    computed = COMPUTED if type_ in NUMERIC else () if type_ == "string" else SAME_KIND
    return (*COUNTING, *computed, *OF_A_ROW, ANY_SHARE)


def has_statistic(type_: str, name: str) -> bool:
    """Return whether a column type has a statistic."""
    kind = ANY_SHARE if SHARE.fullmatch(name) else "q25" if QUANTILE.fullmatch(name) else name
    return kind in list_allowed(type_)
