"""The distribution of one variable, in parts that can be drawn."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.rows.described import NUMERIC, DescribedVariable
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.labelled import distinct_texts

Numbers = npt.NDArray[np.float64]
Whole = npt.NDArray[np.int64]

BARS = 12
MOST_VALUES = 8
# Texts that repeat so often on average are shown.
REPEATED = 5


@dataclass(frozen=True)
class Distribution:
    """The parts of a distribution.

    Parameters
    ----------
    labels
        What the parts are called.
    part
        Part of each row: those beyond the labels belong to values that have no part; -1 where the cell is missing.
    more
        Number of values that have no part.
    is_of_values
        Whether each part is one value, with a label where `is_labelled`.
    """

    labels: tuple[str, ...]
    part: Whole
    more: int = 0
    is_of_values: bool = False
    is_labelled: bool = False

    @property
    def counts(self) -> Whole:
        """Cells of each part, those of all other values last."""
        return np.bincount(self.part[self.part >= 0], minlength=len(self.labels) + 1)


def find_distribution(
    column: Column, found: DescribedVariable, least: int = 0, cases: Whole | None = None
) -> Distribution:
    """Divide the values of a column into parts.

    Parameters
    ----------
    column, found
        The column of n cells, and what is known of it.
    least, cases
        The parts at either end hold so many cases at least, and end nowhere: the minimum and the maximum are those of
        single people. Case of each row; each row is one where None.
    """
    labelled = any(one.label for one in found.categories)
    if labelled or column.type in ("string", "boolean"):
        return _of_values(column, found, is_labelled=labelled)
    values = column.values[~column.is_missing]
    numbers = values.astype(np.float64) if column.type in NUMERIC else values.astype(np.int64).astype(np.float64)
    return _of_spans(column, numbers, least, None if cases is None else cases[~column.is_missing])


def _of_values(column: Column, found: DescribedVariable, *, is_labelled: bool) -> Distribution:
    """One part for each of the first codes, or of the most frequent values."""
    texts, places = distinct_texts(column)
    counts = np.bincount(places[places >= 0], minlength=len(texts))
    if is_labelled:
        listed = found.categories[:MOST_VALUES]
        labels = tuple(one.label or one.value for one in listed)
        place = {one.value: at for at, one in enumerate(listed)}
        codes = CodeList({one.value: one.label for one in found.categories})
        part_of = np.array([*(place.get(codes.code_of(text) or text, len(labels)) for text in texts), -1], np.int64)
        more = len(found.categories) - len(listed)
    else:
        order = np.argsort(-counts, kind="stable")
        # Ids and names of people are all different: to show some of them tells nothing.
        few = REPEATED * len(texts) <= found.present or len(texts) <= MOST_VALUES
        shown = order[:MOST_VALUES] if few else order[:0]
        labels = tuple(texts[at] for at in shown.tolist())
        part_of = np.full(len(texts) + 1, len(labels), np.int64)
        part_of[shown] = np.arange(len(shown))
        part_of[-1] = -1
        more = len(texts) - len(shown)
    return Distribution(labels, part_of[places], more, is_of_values=True, is_labelled=is_labelled)


def _of_spans(column: Column, numbers: Numbers, least: int, cases: Whole | None) -> Distribution:
    """Parts of equal width; one part for each of a few whole numbers."""
    part = np.full(len(column), -1, np.int64)
    present = np.flatnonzero(~column.is_missing)
    part[present] = 0
    ends = find_ends(numbers, max(least, 1), cases)
    if ends is None:
        return Distribution((), part)
    low, high = ends
    below, above = bool((numbers < low).any()), bool((numbers > high).any())
    if low == high and (below or above):
        return Distribution((f"mostly {edge_text(column, low)}",), part)
    whole = column.type != "number" and high - low < BARS
    edges = np.arange(low, high + 2) - 0.5 if whole else np.linspace(low, high if high > low else low + 1, BARS + 1)
    at = np.searchsorted(edges, np.clip(numbers, low, high), side="right") - 1
    part[present] = np.clip(at, 0, len(edges) - 2)
    names = [edge_text(column, edge + 0.5 if whole else edge) for edge in edges]
    labels = names[:-1] if whole else [f"{one} to {two}" for one, two in itertools.pairwise(names)]
    labels[0] = f"up to {names[0 if whole else 1]}" if below else labels[0]
    more = "later" if column.type in ("date", "datetime") else "more"
    labels[-1] = f"{names[-2]} and {more}" if above else labels[-1]
    return Distribution(tuple(labels), part, is_of_values=whole)


def find_ends(numbers: Numbers, least: int, cases: Whole | None) -> tuple[float, float] | None:
    """Find the values up to which, and from which on, there are so many cases; None where there are too few.

    Parameters
    ----------
    numbers
        Shape (n,).
    least
        Number of cases.
    cases
        Case of each number (-1: unknown); each number is one where None.
    """
    lows, highs = numbers, numbers
    if cases is not None:
        numbers, cases = numbers[cases >= 0], cases[cases >= 0]
        count = int(cases.max(initial=-1)) + 1
        lows, highs = np.full(count, np.inf), np.full(count, -np.inf)
        np.minimum.at(lows, cases, numbers)
        np.maximum.at(highs, cases, numbers)
        lows, highs = lows[np.isfinite(lows)], highs[np.isfinite(highs)]
    if not len(lows) or (least > 1 and len(lows) < 2 * least):
        return None
    return float(np.partition(lows, least - 1)[least - 1]), float(np.partition(highs, len(highs) - least)[-least])


def edge_text(column: Column, edge: float) -> str:
    """The end of a part as a person reads it."""
    if column.type in ("date", "datetime"):
        moments = np.array([int(edge)]).view("datetime64[D]" if column.type == "date" else "datetime64[us]")
        return str(moments.astype("datetime64[D]")[0])
    return f"{edge:.4g}" if column.type == "number" or edge != int(edge) else str(int(edge))
