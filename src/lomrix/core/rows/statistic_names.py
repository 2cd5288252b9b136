"""The words for statistics, and which of them a type of column has; without arrays, so that settings can know them."""

from __future__ import annotations

import re

COUNTING = ("n", "missing", "distinct")
COMPUTED = ("mean", "sd", "variance", "se", "ci", "median", "q25", "q75", "iqr", "min", "max", "sum")
OF_A_ROW = ("first", "last", "commonest")
KNOWN = (*COUNTING, *COMPUTED, *OF_A_ROW)
# Statistics that are a value of the variable, or lie between two; dates have them too.
SAME_KIND = ("min", "max", "median", "q25", "q75")
# What can be weighted.
WITH_WEIGHTS = ("n", "missing", "mean", "sd", "variance", "sum")
QUANTILE = re.compile(r"q(\d{1,2})")
SHARE = re.compile(r"share\(([^()]+)\)")
ANY_SHARE = "share(value)"
NUMERIC = ("integer", "number", "boolean")


def is_statistic(name: str) -> bool:
    """True where a word is a statistic."""
    return name in KNOWN or bool(QUANTILE.fullmatch(name) or SHARE.fullmatch(name))


def allowed_of(type_: str) -> tuple[str, ...]:
    """The statistics that a type of column has."""
    computed = COMPUTED if type_ in NUMERIC else () if type_ == "string" else SAME_KIND
    return (*COUNTING, *computed, *OF_A_ROW, ANY_SHARE)


def has(type_: str, name: str) -> bool:
    """True where a type of column has a statistic."""
    kind = ANY_SHARE if SHARE.fullmatch(name) else "q25" if QUANTILE.fullmatch(name) else name
    return kind in allowed_of(type_)
