"""Functions within a case, in the order of its occasions."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import subtracted
from lomrix.core.arrays.types import Array
from lomrix.core.arrays.within import exact_running_totals, last_present, running_totals
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import MICROSECONDS, as_float, made, time_between
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column, either
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.reasons import NO_OCCASION

IN_ORDER = ("case", "occasion")
Rows = npt.NDArray[np.int64]
KIND = "within a case, in the order of its occasions"


def difference(now: Column, before: Column, name: str) -> Column:
    """One value minus an earlier one; between dates in days."""
    if now.type in ("date", "datetime"):
        return time_between(before, now, [now, before])
    if now.type == "integer":
        whole, beyond = subtracted(now.values, before.values)
        return made("integer", whole, [now, before], beyond)
    values = as_float(now, f"{name}()") - as_float(before, f"{name}()")
    return made("number", values, [now, before])


def stepped(scope: Scope, x: Column, steps: int, within: float | None, name: str) -> Column:
    """The value some occasions before, or after where `steps` is negative."""
    return x.take_or(near_rows(scope, scope.timeline.back(steps), within, name, abs(steps)), NO_OCCASION)


def near_rows(scope: Scope, rows: Rows, within: float | None, name: str, steps: int | Rows) -> Rows:
    """Rows of other occasions, -1 where there is none or it is further away than asked; missed occasions are reported.

    Parameters
    ----------
    scope
        The table.
    rows
        For each row the row of another occasion of its case; -1 for none.
    within
        How far apart the two occasions may be; anything where None.
    name
        The function that asks.
    steps
        How many occasions they should be apart.
    """
    if within is None:
        there = rows >= 0
        apart = np.abs(scope.timeline.places - scope.timeline.places[np.maximum(rows, 0)])
        missed = np.flatnonzero(there & (apart > steps))
        if len(missed):
            text = f"{name}() reaches over missed occasions in {counted(len(missed), 'row', 'rows')}"
            scope.report(Note(f"{text}; within= sets a limit.", "", (), "missed-occasion", len(missed)), missed)
        return rows
    if len(scope.occasion) != 1 or scope.table[scope.occasion[0]].type == "string":
        raise UsageError(
            f"{name}() with within= measures how far two occasions are apart, which words do not tell.",
            todo="Name one ‹occasion› of numbers or dates.",
        )
    when = scope.table[scope.occasion[0]].values
    is_time = when.dtype.kind == "M"
    days: Array = when.astype("datetime64[us]").astype(np.int64) / MICROSECONDS if is_time else when
    gap = np.abs(days - days[np.maximum(rows, 0)])
    return np.where(gap > within, -1, rows)


def require_steps(steps: int, name: str) -> None:
    """Stop where somebody asks for the occasion none or fewer back."""
    if steps < 1:
        raise UsageError(f"{name}() goes 1 occasion or more, not {steps}.", todo=f"Write {name}(x) or {name}(x, 2).")


@function(KIND, needs=IN_ORDER, keeps=True)
def previous(scope: Scope, x: Column, steps: int = 1, *, within: float | None = None) -> Column:
    """previous(x, 1, within=…): the value at the occasion before, or so many before; not over a gap longer than within

    Examples
    --------
    previous(x) of x 5, 7, 4 is —, 5, 7

    previous(x, 2) of x 5, 7, 4 is —, —, 5
    """
    require_steps(steps, "previous")
    return stepped(scope, x, steps, within, "previous")


@function(KIND, needs=IN_ORDER, keeps=True)
def next_(scope: Scope, x: Column, steps: int = 1, *, within: float | None = None) -> Column:
    """next(x, 1, within=…): the value at the occasion after, or so many after

    Examples
    --------
    next(x) of x 5, 7, 4 is 7, 4, —
    """
    require_steps(steps, "next")
    return stepped(scope, x, -steps, within, "next")


@function(KIND, needs=IN_ORDER, keeps=True)
def first(scope: Scope, x: Column) -> Column:
    """first(x): the value at the case's first occasion, missing where it is missing there

    Examples
    --------
    first(x) of x 5, 7, 4 is 5, 5, 5
    """
    return x.take_or(scope.timeline.ends(last=False), NO_OCCASION)


@function(KIND, needs=IN_ORDER, keeps=True)
def last(scope: Scope, x: Column) -> Column:
    """last(x): the value at the case's last occasion, missing where it is missing there

    Examples
    --------
    last(x) of x 5, 7, 4 is 4, 4, 4
    """
    return x.take_or(scope.timeline.ends(last=True), NO_OCCASION)


@function(KIND, needs=IN_ORDER)
def change(scope: Scope, x: Column, *, within: float | None = None) -> Column:
    """change(x, within=…): the value minus that at the occasion before; between dates in days

    Examples
    --------
    change(x) of x 5, 7, 4 is —, 2, -3
    """
    return difference(x, stepped(scope, x, 1, within, "change"), "change")


@function(KIND, needs=IN_ORDER)
def change_from_first(scope: Scope, x: Column) -> Column:
    """change_from_first(x): the value minus that at the case's first occasion; between dates in days

    Examples
    --------
    change_from_first(x) of x 5, 7, 4 is 0, 2, -1
    """
    return difference(x, first(scope, x), "change_from_first")


@function(KIND, needs=IN_ORDER)
def running_sum(scope: Scope, x: Column) -> Column:
    """running_sum(x): the sum of the case's values so far; a missing cell stays missing and adds nothing

    Examples
    --------
    running_sum(x) of x 5, —, 4 is 5, —, 9
    """
    line = scope.timeline
    whole = x.type in ("integer", "boolean")
    values = x.values.astype(np.int64) if whole else as_float(x, "running_sum()")
    counted = line.in_order(np.where(x.is_missing, 0, values))
    if whole:
        totals, beyond = exact_running_totals(counted, line.starts)
        return made("integer", line.of_rows(totals), [x], line.of_rows(beyond))
    total = line.of_rows(running_totals(counted, line.starts))
    with np.errstate(invalid="ignore"):
        return made("number", total, [x], ~np.isfinite(total))


@function(KIND, needs=IN_ORDER, keeps=True)
def carried(scope: Scope, x: Column, *, at_most: int | None = None, within: float | None = None) -> Column:
    """carried(x, at_most=2, within=…): the last value present, carried forward over so many missing ones at most

    Examples
    --------
    carried(x, at_most=1) of x 5, —, —, 4 is 5, 5, —, 4
    """
    line = scope.timeline
    places = last_present(line.in_order(~x.is_missing), line.starts)
    far = np.zeros(len(places), np.bool_) if at_most is None else np.arange(len(places)) - places > at_most
    rows = np.where(x.is_missing, line.rows_at(np.where(far, -1, places)), -1)
    steps = line.of_rows(np.arange(len(places)) - places)
    rows = near_rows(scope, rows, within, "carried", steps)
    return either(x, x.take_or(rows, NO_OCCASION), x.is_missing & (rows >= 0))


@function(KIND, needs=IN_ORDER)
def occasion_number(scope: Scope) -> Column:
    """occasion_number(): 1 for the case's first occasion, 2 for the second, and so on

    Examples
    --------
    occasion_number() of x 5, 7, 4 is 1, 2, 3
    """
    return Column.of("integer", scope.timeline.of_rows(scope.timeline.numbers) + 1)


# ------------------------------------------------------------------- statistics


@function(KIND, needs=("case",))
def case_mean(scope: Scope, x: Column) -> Column:
    """case_mean(x): the mean of the case's values; missing ones do not count

    Examples
    --------
    case_mean(x) of x 5, —, 4 is 4.5, 4.5, 4.5
    """
    return of_case(scope, x, "mean")


@function(KIND, needs=("case",))
def case_count(scope: Scope, x: Column) -> Column:
    """case_count(x): how many values the case has

    Examples
    --------
    case_count(x) of x 5, —, 4 is 2, 2, 2
    """
    return of_case(scope, x, "n")


@function(KIND, needs=("case",), keeps=True)
def case_min(scope: Scope, x: Column) -> Column:
    """case_min(x): the smallest of the case's values

    Examples
    --------
    case_min(x) of x 5, —, 4 is 4, 4, 4
    """
    return of_case(scope, x, "min")


@function(KIND, needs=("case",), keeps=True)
def case_max(scope: Scope, x: Column) -> Column:
    """case_max(x): the largest of the case's values

    Examples
    --------
    case_max(x) of x 5, —, 4 is 5, 5, 5
    """
    return of_case(scope, x, "max")


@function(KIND, needs=("case",))
def case_sd(scope: Scope, x: Column) -> Column:
    """case_sd(x): the standard deviation of the case's values, with n - 1 below

    Examples
    --------
    case_sd(x) of x 5, —, 3, 4 is 1.0, 1.0, 1.0, 1.0
    """
    return of_case(scope, x, "sd")


@function(KIND, needs=("case",))
def case_sum(scope: Scope, x: Column) -> Column:
    """case_sum(x): the sum of the case's values

    Examples
    --------
    case_sum(x) of x 5, —, 4 is 9, 9, 9
    """
    return of_case(scope, x, "sum")


def of_case(scope: Scope, x: Column, name: str) -> Column:
    """A statistic of the case beside each of its rows."""
    return scope.statistic(x, scope.by_case, name)
