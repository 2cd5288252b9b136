"""The distribution of one variable, in parts that can be drawn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.rows.described import NUMERIC, VariableSummary
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.labelled import encode_distinct

Numbers = npt.NDArray[np.float64]
Whole = npt.NDArray[np.int64]

BARS = 12
MOST_VALUES = 8
# Texts are shown if they repeat at least this often on average.
REPEATED = 5


@dataclass(frozen=True)
class Distribution:
    """The parts of a distribution."""

    labels: tuple[str, ...]  # what the parts are called
    # part of each row: those beyond the labels belong to values that have no part; -1 where the cell is missing
    part: Whole
    more: int = 0  # number of values that have no part
    is_of_values: bool = False  # whether each part is one value, with a label where `is_labelled`
    is_labelled: bool = False

    @property
    def counts(self) -> Whole:
        """Cells of each part, those of all other values last."""
        return np.bincount(self.part[self.part >= 0], minlength=len(self.labels) + 1)


def find_distribution(
    column: Column, summary: VariableSummary, least: int = 0, cases: Whole | None = None
) -> Distribution:
    """Divide the values of a column into parts.

    The parts at either end hold at least `least` cases and are open, since minimum and maximum belong to single
    persons. `cases` is the case of each row; each row is one if None.
    """
    labelled = any(category.label for category in summary.categories)
    if labelled or column.type in ("string", "boolean"):
        return _divide_values(column, summary, is_labelled=labelled)
    values = column.values[~column.is_missing]
    numbers = values.astype(np.float64) if column.type in NUMERIC else values.astype(np.int64).astype(np.float64)
    return _divide_range(column, numbers, least, None if cases is None else cases[~column.is_missing])


def _divide_values(column: Column, summary: VariableSummary, *, is_labelled: bool) -> Distribution:
    """Make one part for each of the first codes, or of the most frequent values."""
    texts, positions = encode_distinct(column)
    counts = np.bincount(positions[positions >= 0], minlength=len(texts))
    if is_labelled:
        listed = summary.categories[:MOST_VALUES]
        labels = tuple(category.label or category.value for category in listed)
        index_of_value = {category.value: index for index, category in enumerate(listed)}
        codes = CodeList({category.value: category.label for category in summary.categories})
        part_of = np.array(
            [*(index_of_value.get(codes.code_of(text) or text, len(labels)) for text in texts), -1], np.int64
        )
        more = len(summary.categories) - len(listed)
    else:
        order = np.argsort(-counts, kind="stable")
        # Ids and names are all different: showing some of them is useless.
        is_repetitive = REPEATED * len(texts) <= summary.present or len(texts) <= MOST_VALUES
        shown = order[:MOST_VALUES] if is_repetitive else order[:0]
        labels = tuple(texts[index] for index in shown.tolist())
        part_of = np.full(len(texts) + 1, len(labels), np.int64)
        part_of[shown] = np.arange(len(shown))
        part_of[-1] = -1
        more = len(texts) - len(shown)
    return Distribution(labels, part_of[positions], more, is_of_values=True, is_labelled=is_labelled)


def _divide_range(column: Column, numbers: Numbers, least: int, cases: Whole | None) -> Distribution:
    """Make parts of equal width, or one for each of a few integers."""
    part = np.where(column.is_missing, -1, 0)
    ends = find_ends(numbers, max(least, 1), cases)
    if ends is None:
        return Distribution((), part)
    low, high = ends
    is_open = bool((numbers < low).any()), bool((numbers > high).any())
    if low == high and any(is_open):
        return Distribution((f"mostly {format_edge(column, low)}",), part)
    is_integer = column.type != "number" and high - low < BARS
    edges = (
        np.arange(low, high + 2) - 0.5 if is_integer else np.linspace(low, high if high > low else low + 1, BARS + 1)
    )
    index = np.searchsorted(edges, np.clip(numbers, low, high), side="right") - 1
    part[part == 0] = np.clip(index, 0, len(edges) - 2)
    return Distribution(_name_parts(column, edges, is_open, is_integer=is_integer), part, is_of_values=is_integer)


def _name_parts(column: Column, edges: Numbers, is_open: tuple[bool, bool], *, is_integer: bool) -> tuple[str, ...]:
    """Name the parts between edges; the first and the last one may be open."""
    if is_integer:
        labels = starts = ends = [format_edge(column, edge + 0.5) for edge in edges[:-1]]
    else:
        names = [format_edge(column, edge) for edge in edges]
        starts, ends = names[:-1], names[1:]
        labels = [f"{start} to {end}" for start, end in zip(starts, ends, strict=True)]
    first = f"up to {ends[0]}" if is_open[0] else labels[0]
    last = f"{starts[-1]} and {'later' if column.type in ('date', 'datetime') else 'more'}"
    return (first, *labels[1:-1], last if is_open[1] else labels[-1])[: len(labels)]


def find_ends(numbers: Numbers, least: int, cases: Whole | None) -> tuple[float, float] | None:
    """Return the values up to which, and from which on, there are `least` cases; None if there are too few."""
    minima, maxima = numbers, numbers
    if cases is not None:
        numbers, cases = numbers[cases >= 0], cases[cases >= 0]
        count = int(cases.max(initial=-1)) + 1
        minima, maxima = np.full(count, np.inf), np.full(count, -np.inf)
        np.minimum.at(minima, cases, numbers)
        np.maximum.at(maxima, cases, numbers)
        minima, maxima = minima[np.isfinite(minima)], maxima[np.isfinite(maxima)]
    if not len(minima) or (least > 1 and len(minima) < 2 * least):
        return None
    return float(np.partition(minima, least - 1)[least - 1]), float(np.partition(maxima, len(maxima) - least)[-least])


def format_edge(column: Column, edge: float) -> str:
    """Format the end of a part."""
    if column.type in ("date", "datetime"):
        timestamps = np.array([int(edge)]).view("datetime64[D]" if column.type == "date" else "datetime64[us]")
        return str(timestamps.astype("datetime64[D]")[0])
    return f"{edge:.4g}" if column.type == "number" or edge != int(edge) else str(int(edge))
