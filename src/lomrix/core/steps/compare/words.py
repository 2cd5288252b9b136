"""Comparisons in plain words, and as a table."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from lomrix.core.steps.account import Listing
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

NUMBERS = ("difference", "low", "high", "statistic", "df", "df_within", "p", "effect", "effect_low", "effect_high")
LABELS = {
    "difference": "difference of means, or slope",
    "low": "lower end of its 95 % interval",
    "high": "upper end of its 95 % interval",
    "statistic": "t, F or chi-squared",
    "df": "degrees of freedom",
    "df_within": "degrees of freedom within groups",
    "p": "p-value, two-sided",
    "effect": "standardised difference, eta squared, Cramér's V or r squared",
    "effect_low": "lower end of the 95 % interval of the standardised difference",
    "effect_high": "upper end of the 95 % interval of the standardised difference",
}
SIGNS = {"Welch's t": "t", "paired t": "t", "least squares": "t", "chi-squared": "chi-squared"}


def table_of(rows: Sequence[Mapping[str, Any]]) -> Table:
    """The tests as a table; what a test does not have is missing."""
    columns = {
        name: Column.of_cells("string", [row[name] for row in rows]) for name in ("measure", "comparison", "method")
    }
    columns["n"] = Column.of_cells("integer", [row["n"] for row in rows])
    for name in NUMBERS:
        values = np.array([row.get(name, math.nan) for row in rows], np.float64)
        gone = ~np.isfinite(values)
        columns[name] = Column.of("number", values, gone.astype(np.uint8), (UNDEFINED,))
    dictionary = Dictionary({name: Variable(label=label) for name, label in LABELS.items()})
    return Table(columns, dictionary, name="comparison")


def in_words(row: Mapping[str, Any]) -> str:
    """One test in a sentence, without a verdict."""
    method, start = row["method"], f"{row['measure']}, {row['comparison']}"
    sign = SIGNS.get(method, "F")
    if math.isnan(row["statistic"]):
        size = f": {number(row['difference'])}" if "difference" in row and not math.isnan(row["difference"]) else ""
        return f"{start}{size} ({method} cannot be computed)"
    df = number(row["df"]) + (
        f" and {number(row['df_within'])}" if "df_within" in row and not math.isnan(row["df_within"]) else ""
    )
    test = f"{method}: {sign} = {number(row['statistic'])}, {df} df, p {p_value(row['p'])}"
    if "difference" not in row:
        return f"{start} ({test})"
    size = f"{number(row['difference'])}, 95 % interval {number(row['low'])} to {number(row['high'])}"
    effect = f"; standardised {two_places(row['effect'])}" if "effect_low" in row else f"; r² {row['effect']:.3f}"
    return f"{start}: {size} ({test}{effect})"


def freedom(row: Mapping[str, Any]) -> str:
    """Degrees of freedom, of an F both."""
    within = row.get("df_within", math.nan)
    return number(row["df"]) + ("" if math.isnan(within) else f" and {number(within)}")


def listed(rows: Sequence[Mapping[str, Any]]) -> Iterator[Listing]:
    """The tests as tables, those of differences and those of several groups apart."""
    of_size = [row for row in rows if "difference" in row]
    if of_size:
        lines = []
        for row in of_size:
            ends = "" if math.isnan(row["low"]) else f"{number(row['low'])} to {number(row['high'])}"
            lines.append(
                (row["measure"], row["comparison"], row["n"], number(row["difference"]), ends, *told_test(row))
            )
        kind = "r²" if "effect_low" not in of_size[0] else "standardised (95 % interval)"
        what = "slope" if kind == "r²" else "difference"
        heads = ("measure", "comparison", "n", what, "95 % interval", "method", "statistic", "df", "p", kind)
        yield Listing("sizes and tests", heads, tuple(lines), splits=True)
    others = [row for row in rows if "difference" not in row]
    if others:
        whole = tuple((row["measure"], row["comparison"], row["n"], *told_test(row)) for row in others)
        names = ("measure", "comparison", "n", "method", "statistic", "df", "p", "eta², Cramér's V")
        yield Listing("tests", names, whole, splits=True)


def told_test(row: Mapping[str, Any]) -> tuple[str, ...]:
    """Method, statistic, degrees of freedom, p, and the size of the effect."""
    if math.isnan(row["statistic"]):
        return row["method"], "cannot be computed", "", "", ""
    effect = "" if math.isnan(row["effect"]) else f"{row['effect']:.3f}"
    if "effect_low" in row:
        size, low, high = (two_places(row[name]) for name in ("effect", "effect_low", "effect_high"))
        effect = f"{size} ({low} to {high})"
    return row["method"], number(row["statistic"]), freedom(row), p_value(row["p"]).removeprefix("= "), effect


def number(value: float) -> str:
    """A number to four digits that count; an em dash where there is none."""
    if math.isnan(value):
        return "—"
    return f"{value:.0f}" if abs(value) >= 1000 else f"{value:.4g}"


def two_places(value: float) -> str:
    """A standardised difference: two places, and no sign before a nought."""
    return f"{round(value, 2) + 0.0:.2f}"


def p_value(value: float) -> str:
    """A p-value as it is printed."""
    return "< 0.0001" if value < 0.0001 else f"= {value:.4f}"
