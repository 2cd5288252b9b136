"""What a page tells, as plain values: nothing in it is computed any more where it is drawn."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.rows.described import DescribedVariable


@dataclass(frozen=True)
class Bar:
    """One part of a distribution: from where to where, or which value; None where there are too few to be shown."""

    label: str
    cells: int | None


@dataclass(frozen=True)
class TellingVariable:
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

    described: DescribedVariable
    bars: tuple[Bar, ...]
    more: int
    present: int | None
    missing: Mapping[str, int | None]
    missing_share: float | None


@dataclass(frozen=True)
class SeenAt:
    """Who was seen at one occasion; None where there are too few to be shown."""

    occasion: str
    cases: int | None
    new: int | None
    back: int | None
    lost: int | None


@dataclass(frozen=True)
class Point:
    """A mean at an occasion with its 95 % interval; None where it is not shown."""

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
class Drawn:
    """One measure over the occasions, its groups as lines."""

    name: str
    label: str
    unit: str
    lines: tuple[Line, ...]


@dataclass(frozen=True)
class Node:
    """One box of the flow: a file or a task, with its rows, and the boxes that lead to it."""

    id: str
    title: str
    does: str
    rows: int | None
    summary: str
    needs: tuple[str, ...] = ()


@dataclass(frozen=True)
class Gap:
    """The share of cells of a variable that are missing at each occasion, for one reason or for all where it is empty.

    A share is None where the rows, or the missing ones among them, are too few to be shown.
    """

    name: str
    reason: str
    shares: tuple[float | None, ...]


@dataclass(frozen=True)
class Content:
    """All that a page tells.

    Parameters
    ----------
    title, rows
        At its top.
    variables
        In the order of the file.
    flow
        How it came about, what leads before what follows.
    case, occasion
        What cases and occasions are called.
    cases
        Number of cases; None where they are not known, or not shown.
    seen
        Who was seen when.
    gaps
        What is missing when: each variable as a whole, and where it has several reasons, by reason.
    drawn
        Measures over the occasions.
    min_n
        Fewer cases than this are not shown.
    """

    title: str
    rows: int
    variables: tuple[TellingVariable, ...]
    flow: tuple[Node, ...] = ()
    case: str = ""
    occasion: str = ""
    cases: int | None = None
    seen: tuple[SeenAt, ...] = ()
    gaps: tuple[Gap, ...] = ()
    drawn: tuple[Drawn, ...] = ()
    min_n: int = 0
