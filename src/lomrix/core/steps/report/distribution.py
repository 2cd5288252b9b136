"""The distribution of one variable, in parts that can be drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import sum_counts
from lomrix.core.rows.column_survey import ColumnSurvey, SurveyedTable, iterate_blocks
from lomrix.core.rows.described import VariableSummary
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
    # Gives the part of each cell: those beyond the labels belong to values that have no part; -1 where it is missing.
    assign: Callable[[Column], Whole]
    counts: Whole  # cells of each part, those of all other values last
    more: int = 0  # number of values that have no part
    is_of_values: bool = False  # whether each part is one value, with a label where `is_labelled`
    is_labelled: bool = False

    @classmethod
    def of(
        cls, column: Column, survey: ColumnSurvey, labels: tuple[str, ...], assign: Callable[[Column], Whole],
        more: int = 0, *, is_of_values: bool = False, is_labelled: bool = False,
    ) -> Distribution:  # fmt: skip
        """Count the cells of each part, by the distinct values if these are known."""
        counts = np.zeros(len(labels) + 1, np.int64)
        distinct = survey.distinct
        blocks = iterate_blocks(column) if distinct is None else [(0, distinct.values)]
        for _, block in blocks:
            counts += sum_counts(assign(block), len(counts), None if distinct is None else distinct.counts)
        return cls(labels, assign, counts, more, is_of_values, is_labelled)


def find_distribution(
    known: SurveyedTable, summary: VariableSummary, least: int = 0, cases: Whole | None = None
) -> Distribution:
    """Divide the values of a column into parts.

    The parts at either end hold at least `least` cases and are open, since minimum and maximum belong to single
    persons. `cases` is the case of each row; each row is one if None.
    """
    if any(category.label for category in summary.categories):
        return _divide_labelled(known, summary)
    if known.table[summary.name].type in ("string", "boolean"):
        return _divide_texts(known, summary)
    return _divide_range(known.table[summary.name], known.survey.columns[summary.name], max(least, 1), cases)


def _divide_labelled(known: SurveyedTable, summary: VariableSummary) -> Distribution:
    """Make one part for each of the first codes."""
    listed = summary.categories[:MOST_VALUES]
    index_of_value = {category.value: index for index, category in enumerate(listed)}
    codes = CodeList({category.value: category.label for category in summary.categories})

    def assign(block: Column) -> Whole:
        texts, positions = encode_distinct(block)
        parts = [index_of_value.get(codes.code_of(text) or text, len(listed)) for text in texts]
        return np.array([*parts, -1], np.int64)[positions]

    return Distribution.of(
        known.table[summary.name], known.survey.columns[summary.name],
        tuple(category.label or category.value for category in listed), assign,
        len(summary.categories) - len(listed), is_of_values=True, is_labelled=True,
    )  # fmt: skip


def _divide_texts(known: SurveyedTable, summary: VariableSummary) -> Distribution:
    """Make one part for each of the most frequent values."""
    distinct = known.count_distinct(summary.name)
    # Ids and names are all different: showing some of them is useless.
    is_repetitive = REPEATED * distinct <= summary.present or distinct <= MOST_VALUES
    shown = known.list_most_frequent(summary.name, MOST_VALUES) if is_repetitive and distinct else []
    index_of_text = {text: index for index, (text, _) in enumerate(shown)}

    def assign(block: Column) -> Whole:
        texts, positions = encode_distinct(block)
        return np.array([*(index_of_text.get(text, len(shown)) for text in texts), -1], np.int64)[positions]

    counts = [count for _, count in shown]
    counts.append(summary.present - sum(counts))
    more = distinct - len(shown)
    return Distribution(tuple(index_of_text), assign, np.array(counts, np.int64), more, is_of_values=True)


def _divide_range(column: Column, survey: ColumnSurvey, least: int, cases: Whole | None) -> Distribution:
    """Make parts of equal width, or one for each of a few integers."""

    def assign_all(block: Column) -> Whole:
        return np.where(block.is_missing, -1, 0)

    ends = find_ends(column, survey, least, cases)
    if ends is None or survey.ends is None:
        return Distribution.of(column, survey, (), assign_all)
    low, high = ends
    lowest, highest = to_numbers(survey.ends)[[0, -1]]
    is_open = bool(lowest < low), bool(highest > high)
    if low == high and any(is_open):
        return Distribution.of(column, survey, (f"mostly {format_edge(column, low)}",), assign_all)
    is_integer = column.type != "number" and high - low < BARS
    edges = (
        np.arange(low, high + 2) - 0.5
        if is_integer  # halves, since the distance of large numbers is beyond the range
        else 2 * np.linspace(low / 2, high / 2 if high > low else (low + 1) / 2, BARS + 1)
    )

    def assign(block: Column) -> Whole:
        index = np.searchsorted(edges, np.clip(to_numbers(block), low, high), side="right") - 1
        return np.where(block.is_missing, -1, np.clip(index, 0, len(edges) - 2))

    names = _name_parts(column, edges, is_open, is_integer=is_integer)
    return Distribution.of(column, survey, names, assign, is_of_values=is_integer)


def to_numbers(column: Column) -> Numbers:
    """Return the values as numbers; anything where a cell is missing."""
    values = column.values.astype(np.int64) if column.type in ("date", "datetime") else column.values
    return values.astype(np.float64)


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


def find_ends(column: Column, survey: ColumnSurvey, least: int, cases: Whole | None) -> tuple[float, float] | None:
    """Return the values up to which, and from which on, there are `least` cases; None if there are too few."""
    if cases is None:
        if survey.ends is None or survey.present < (2 * least if least > 1 else 1):
            return None
        positions = [least - 1, survey.present - least]
        low, high = survey.find_at(column, positions) if least > 1 else to_numbers(survey.ends)[[0, -1]]
        return float(low), float(high)
    count = int(cases.max(initial=-1)) + 1
    minima, maxima = np.full(count, np.inf), np.full(count, -np.inf)
    for start, block in iterate_blocks(column):
        inside = cases[start : start + len(block)]
        rows = np.flatnonzero(~block.is_missing & (inside >= 0))
        numbers, inside = to_numbers(block)[rows], inside[rows]
        np.minimum.at(minima, inside, numbers)
        np.maximum.at(maxima, inside, numbers)
    minima, maxima = minima[minima < np.inf], maxima[maxima > -np.inf]
    if not len(minima) or (least > 1 and len(minima) < 2 * least):
        return None
    return float(np.partition(minima, least - 1)[least - 1]), float(np.partition(maxima, len(maxima) - least)[-least])


def format_edge(column: Column, edge: float) -> str:
    """Format the end of a part."""
    if column.type in ("date", "datetime"):
        timestamps = np.array([int(edge)]).view("datetime64[D]" if column.type == "date" else "datetime64[us]")
        return str(timestamps.astype("datetime64[D]")[0])
    return f"{edge:.4g}" if column.type == "number" or edge != int(edge) else str(int(edge))
