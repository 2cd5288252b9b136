"""The distribution of one variable, in parts that can be drawn."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.rows.described import NUMERIC, Category, DescribedVariable
from lomrix.core.steps.report.content import Bar
from lomrix.core.table.column import Column

BARS = 12
MOST_VALUES = 8
# Texts that repeat so often on average are shown.
REPEATED = 5


def bars_of(column: Column, found: DescribedVariable, min_n: int = 0) -> tuple[tuple[Bar, ...], int]:
    """The parts of a distribution, and how many values have none.

    Parameters
    ----------
    column, found
        The column, and what is known of it.
    min_n
        The parts at either end hold so many cases at least, and end nowhere: the smallest and the largest value are
        those of single people.
    """
    if any(one.label for one in found.categories) or column.type in ("string", "boolean"):
        listed = found.categories or commonest(column)
        ordered = listed if any(one.label for one in listed) else sorted(listed, key=lambda one: -one.cells)
        distinct = len(column.compact().strings) if column.type == "string" else len(listed)
        # Ids and names of people are all different: to show some of them tells nothing.
        few = any(one.label for one in listed) or REPEATED * distinct <= found.present or distinct <= MOST_VALUES
        shown = tuple(Bar(one.label or one.value, one.cells) for one in ordered[:MOST_VALUES]) if few else ()
        return shown, max(distinct - len(shown), 0)
    values = column.values[~column.is_missing]
    if not len(values):
        return (), 0
    numbers = values.astype(np.float64) if column.type in NUMERIC else values.astype(np.int64).astype(np.float64)
    if min_n > 1 and len(numbers) < 2 * min_n:
        return (), 0
    low, high = ends_of(numbers, max(min_n, 1))
    below, above = bool((numbers < low).any()), bool((numbers > high).any())
    if low == high and (below or above):
        return (Bar(f"mostly {edge_text(column, low)}", len(numbers)),), 0
    whole = column.type != "number" and high - low < BARS
    edges = np.arange(low, high + 2) - 0.5 if whole else np.linspace(low, high if high > low else low + 1, BARS + 1)
    counts, edges = np.histogram(np.clip(numbers, low, high), edges)
    names = [edge_text(column, edge + 0.5 if whole else edge) for edge in edges]
    labels = names[:-1] if whole else [f"{one} to {two}" for one, two in itertools.pairwise(names)]
    labels[0] = f"up to {names[0 if whole else 1]}" if below else labels[0]
    more = "later" if column.type in ("date", "datetime") else "more"
    labels[-1] = f"{names[-2]} and {more}" if above else labels[-1]
    return tuple(Bar(label, int(count)) for label, count in zip(labels, counts, strict=True)), 0


def ends_of(numbers: npt.NDArray[np.float64], least: int) -> tuple[float, float]:
    """The number that so many are not above, and the one that so many are not below."""
    parted = np.partition(numbers, (least - 1, len(numbers) - least))
    return float(parted[least - 1]), float(parted[len(numbers) - least])


def commonest(column: Column) -> Sequence[Category]:
    """The commonest texts of many."""
    column = column.compact()
    counts: npt.NDArray[np.int64] = np.bincount(column.values[column.values >= 0], minlength=len(column.strings))
    order = np.argsort(-counts, kind="stable")[:MOST_VALUES]
    texts = column.strings.strings.take(pa.array(order)).to_pylist()
    return [Category(text, "", int(counts[at])) for text, at in zip(texts, order, strict=True)]


def edge_text(column: Column, edge: float) -> str:
    """An edge between two parts, as a person reads it."""
    if column.type in ("date", "datetime"):
        moments = np.array([int(edge)]).view("datetime64[D]" if column.type == "date" else "datetime64[us]")
        return str(moments.astype("datetime64[D]")[0])
    return f"{edge:.4g}" if column.type == "number" or edge != int(edge) else str(int(edge))
