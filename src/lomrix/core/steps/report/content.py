"""The content of a page, as plain values; drawing it computes nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.rows.described import VariableSummary


@dataclass(frozen=True)
class Bar:
    """One part of a distribution: a range or a value, and its cells; None if too few to be shown."""

    label: str
    cells: int | None


@dataclass(frozen=True)
class PageVariable:
    """A variable with its distribution.

    Parameters
    ----------
    described
        Counts and statistics.
    bars
        Parts of equal width for numbers and days, values for others.
    more
        Number of further values that have no bar.
    present, missing
        Cells with a value, and missing ones by reason; None where they must not be shown.
    missing_share
        The share of missing cells; None where it must not be shown.
    """

    summary: VariableSummary
    bars: tuple[Bar, ...]
    more: int
    present: int | None
    missing: Mapping[str, int | None]
    missing_share: float | None


@dataclass(frozen=True)
class OccasionCounts:
    """Cases at one occasion; None if too few to be shown."""

    occasion: str
    cases: int | None
    new: int | None
    back: int | None
    lost: int | None


@dataclass(frozen=True)
class Point:
    """A mean at an occasion with its 95 % interval; None if not shown."""

    occasion: str
    n: int | None
    mean: float | None
    low: float | None
    high: float | None


@dataclass(frozen=True)
class Line:
    """The means of one measure, or of it in one group."""

    group: str
    points: tuple[Point, ...]


@dataclass(frozen=True)
class MeasureFigure:
    """One measure over the occasions, with a line per group."""

    name: str
    label: str
    unit: str
    lines: tuple[Line, ...]


@dataclass(frozen=True)
class Node:
    """One box of the flow: a file or task, its rows, and the boxes that lead to it."""

    id: str
    title: str
    does: str
    rows: int | None
    summary: str
    needs: tuple[str, ...] = ()


@dataclass(frozen=True)
class Gap:
    """The share of missing cells of a variable at each occasion, for one reason or for all (empty).

    A share is None if the rows, or the missing ones among them, are too few to be shown.
    """

    name: str
    reason: str
    shares: tuple[float | None, ...]


@dataclass(frozen=True)
class Content:
    """All that a page shows."""

    title: str  # at its top
    rows: int
    variables: tuple[PageVariable, ...]  # in the order of the file
    flow: tuple[Node, ...] = ()  # how it came about, what leads before what follows
    case: str = ""  # what cases and occasions are called
    occasion: str = ""
    cases: int | None = None  # number of cases; None where they are not known, or not shown
    seen: tuple[OccasionCounts, ...] = ()  # who was seen when
    # what is missing when: each variable as a whole, and where it has several reasons, by reason
    gaps: tuple[Gap, ...] = ()
    drawn: tuple[MeasureFigure, ...] = ()  # measures over the occasions
    min_n: int = 0  # fewer cases than this are not shown
