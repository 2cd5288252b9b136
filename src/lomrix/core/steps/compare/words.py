"""Format comparisons in words, and as a table."""

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
    "effect": "standardised difference, (partial) eta squared, Cramér's V or r squared",
    "effect_low": "lower end of the 95 % interval of the standardised difference",
    "effect_high": "upper end of the 95 % interval of the standardised difference",
}
SYMBOLS = {
    "Welch's t": "t", "paired t": "t", "least squares": "t", "adjusted least squares": "t", "chi-squared": "chi-squared"
}  # fmt: skip
EFFECTS = {"least squares": "r²", "adjusted least squares": "partial eta²"}


def make_table(rows: Sequence[Mapping[str, Any]]) -> Table:
    """Return the tests as a table; what a test does not have is missing."""
    columns = {
        name: Column.of_cells("string", [row[name] for row in rows]) for name in ("measure", "comparison", "method")
    }
    columns["n"] = Column.of_cells("integer", [row["n"] for row in rows])
    for name in NUMBERS:
        values = np.array([row.get(name, math.nan) for row in rows], np.float64)
        undefined = ~np.isfinite(values)
        columns[name] = Column.of("number", values, undefined.astype(np.uint8), (UNDEFINED,))
    dictionary = Dictionary({name: Variable(label=label) for name, label in LABELS.items()})
    return Table(columns, dictionary, name="comparison")


def format_test(row: Mapping[str, Any]) -> str:
    """Format one test as a sentence, without a verdict."""
    method, start = row["method"], f"{row['measure']}, {row['comparison']}"
    symbol = SYMBOLS.get(method, "F")
    if math.isnan(row["statistic"]):
        size = (
            f": {format_number(row['difference'])}" if "difference" in row and not math.isnan(row["difference"]) else ""
        )
        return f"{start}{size} ({method} cannot be computed)"
    df = format_number(row["df"]) + (
        f" and {format_number(row['df_within'])}" if "df_within" in row and not math.isnan(row["df_within"]) else ""
    )
    test = f"{method}: {symbol} = {format_number(row['statistic'])}, {df} df, p {format_p(row['p'])}"
    if "difference" not in row:
        return f"{start} ({test})"
    size = f"{format_number(row['difference'])}, 95 % interval {format_interval(row['low'], row['high'])}"
    effect = f"; {EFFECTS[method]} {row['effect']:.3f}" if method in EFFECTS else ""
    effect = f"; standardised {format_effect(row['effect'])}" if "effect_low" in row else effect
    return f"{start}: {size} ({test}{effect})"


def format_df(row: Mapping[str, Any]) -> str:
    """Format degrees of freedom, both of an F test."""
    within = row.get("df_within", math.nan)
    return format_number(row["df"]) + ("" if math.isnan(within) else f" and {format_number(within)}")


def list_tests(rows: Sequence[Mapping[str, Any]]) -> Iterator[Listing]:
    """List the tests, those of differences and those of several groups separately."""
    differences = [row for row in rows if "difference" in row]
    if differences:
        lines = []
        for row in differences:
            interval = format_interval(row["low"], row["high"])
            lines.append(
                (
                    row["measure"],
                    row["comparison"],
                    row["n"],
                    format_number(row["difference"]),
                    interval,
                    *format_test_cells(row),
                )
            )
        kind = EFFECTS.get(differences[0]["method"], "standardised (95 % interval)")
        head = "slope" if kind == "r²" else "difference"
        heads = ("measure", "comparison", "n", head, "95 % interval", "method", "statistic", "df", "p", kind)
        yield Listing("sizes and tests", heads, tuple(lines), splits=True)
    others = [row for row in rows if "difference" not in row]
    if others:
        lines_of_tests = tuple((row["measure"], row["comparison"], row["n"], *format_test_cells(row)) for row in others)
        names = (
            "measure",
            "comparison",
            "n",
            "method",
            "statistic",
            "df",
            "p",
            "eta², Cramér's V" if others[0]["method"] != "analysis of covariance" else "partial eta²",
        )
        yield Listing("tests", names, lines_of_tests, splits=True)


def format_test_cells(row: Mapping[str, Any]) -> tuple[str, ...]:
    """Return method, statistic, degrees of freedom, p, and effect size."""
    if math.isnan(row["statistic"]):
        return row["method"], "cannot be computed", "", "", ""
    effect = "" if math.isnan(row["effect"]) else f"{row['effect']:.3f}"
    if "effect_low" in row:
        size, low, high = (format_effect(row[name]) for name in ("effect", "effect_low", "effect_high"))
        effect = f"{size} ({low} to {high})"
    return row["method"], format_number(row["statistic"]), format_df(row), format_p(row["p"]).removeprefix("= "), effect


def format_number(value: float) -> str:
    """Format a number with four significant digits; an em dash for NaN."""
    if math.isnan(value):
        return "—"
    return f"{value:.0f}" if 1000 <= abs(value) < 1e15 else f"{value:.4g}"


def format_interval(low: float, high: float) -> str:
    """Format the ends of an interval; empty for NaN."""
    return "" if math.isnan(low) else f"{format_number(low)} to {format_number(high)}"


def format_effect(value: float) -> str:
    """Format a standardised difference with two decimals, without a minus before 0."""
    return f"{round(value, 2) + 0.0:.2f}"


def format_p(value: float) -> str:
    """Format a p-value; an em dash for NaN."""
    if math.isnan(value):
        return "—"
    return "< 0.0001" if value < 0.0001 else f"= {value:.4f}"
