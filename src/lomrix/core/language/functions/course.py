"""Functions within a case, in the order of its occasions."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import subtract
from lomrix.core.arrays.types import Array
from lomrix.core.arrays.within import cumulate, cumulate_exactly, find_last_present
from lomrix.core.combining import Words
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import MICROSECONDS, make_result, subtract_times, to_floats
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column, choose_cells
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import NO_OCCASION

IN_ORDER = ("case", "occasion")
Rows = npt.NDArray[np.int64]
KIND = "within a case, in the order of its occasions"


def subtract_values(now: Column, before: Column, name: str) -> Column:
    """Subtract an earlier value; between dates in days."""
    if now.type in ("date", "datetime"):
        return subtract_times(before, now, [now, before])
    if now.type == "integer":
        result, overflow = subtract(now.values, before.values)
        return make_result("integer", result, [now, before], overflow)
    values = to_floats(now, f"{name}()") - to_floats(before, f"{name}()")
    return make_result("number", values, [now, before])


def take_step(scope: Scope, x: Column, steps: int, within: float | None, name: str) -> Column:
    """Return the value some occasions before, or after if `steps` is negative."""
    return x.take_or(limit_gap(scope, scope.timeline.shift_rows(steps), within, name, abs(steps)), NO_OCCASION)


def limit_gap(scope: Scope, rows: Rows, within: float | None, name: str, steps: int | Rows) -> Rows:
    """Return rows of other occasions (-1: none), dropping those further away than `within`; without it, note missed
    occasions. `steps` is how far apart the occasions should be.
    """
    if within is None:
        has_row = rows >= 0
        distance = np.abs(scope.timeline.positions - scope.timeline.positions[np.maximum(rows, 0)])
        missed = np.flatnonzero(has_row & (distance > steps))
        if len(missed):
            text = "{name}() skips missed occasions in {rows:row}; within= sets a limit."
            words = Words(text, name=name, rows=len(missed))
            scope.add_note(Note(words, "", (), "missed-occasion", len(missed)), missed)
        return rows
    if len(scope.occasion) != 1 or scope.table[scope.occasion[0]].type == "string":
        raise UsageError(
            f"{name}() with within= needs occasions that are numbers or dates.",
            todo="Name one ‹occasion› of numbers or dates.",
        )
    when = scope.table[scope.occasion[0]].values
    is_time = when.dtype.kind == "M"
    days: Array = when.astype("datetime64[us]").astype(np.int64) / MICROSECONDS if is_time else when
    gap = np.abs(days - days[np.maximum(rows, 0)])
    return np.where(gap > within, -1, rows)


def require_steps(steps: int, name: str) -> None:
    """Stop if the number of occasions is below 1."""
    if steps < 1:
        raise UsageError(f"{name}() needs at least 1 occasion, not {steps}.", todo=f"Write {name}(x) or {name}(x, 2).")


@function(KIND, needs=IN_ORDER, keeps=True)
def previous(scope: Scope, x: Column, steps: int = 1, *, within: float | None = None) -> Column:
    """previous(x, 1, within=…): the value 1 or more occasions before; not over a gap longer than within

    Examples
    --------
    previous(x) of x 5, 7, 4 is —, 5, 7

    previous(x, 2) of x 5, 7, 4 is —, —, 5
    """
    require_steps(steps, "previous")
    return take_step(scope, x, steps, within, "previous")


@function(KIND, needs=IN_ORDER, keeps=True)
def next_(scope: Scope, x: Column, steps: int = 1, *, within: float | None = None) -> Column:
    """next(x, 1, within=…): the value 1 or more occasions after

    Examples
    --------
    next(x) of x 5, 7, 4 is 7, 4, —
    """
    require_steps(steps, "next")
    return take_step(scope, x, -steps, within, "next")


@function(KIND, needs=IN_ORDER, keeps=True)
def first(scope: Scope, x: Column) -> Column:
    """first(x): the value at the case's first occasion, missing where it is missing there

    Examples
    --------
    first(x) of x 5, 7, 4 is 5, 5, 5
    """
    return x.take_or(scope.timeline.end_rows(last=False), NO_OCCASION)


@function(KIND, needs=IN_ORDER, keeps=True)
def last(scope: Scope, x: Column) -> Column:
    """last(x): the value at the case's last occasion, missing where it is missing there

    Examples
    --------
    last(x) of x 5, 7, 4 is 4, 4, 4
    """
    return x.take_or(scope.timeline.end_rows(last=True), NO_OCCASION)


@function(KIND, needs=IN_ORDER)
def change(scope: Scope, x: Column, *, within: float | None = None) -> Column:
    """change(x, within=…): the value minus the one at the occasion before; between dates in days

    Examples
    --------
    change(x) of x 5, 7, 4 is —, 2, -3
    """
    return subtract_values(x, take_step(scope, x, 1, within, "change"), "change")


@function(KIND, needs=IN_ORDER)
def change_from_first(scope: Scope, x: Column) -> Column:
    """change_from_first(x): the value minus the one at the case's first occasion; between dates in days

    Examples
    --------
    change_from_first(x) of x 5, 7, 4 is 0, 2, -1
    """
    return subtract_values(x, first(scope, x), "change_from_first")


@function(KIND, needs=IN_ORDER)
def running_sum(scope: Scope, x: Column, *, within: float | None = None) -> Column:
    """running_sum(x, within=…): the cumulative sum of the case's values, from 0 again after a gap longer than within;
    a missing cell stays missing and adds nothing

    Examples
    --------
    running_sum(x) of x 5, —, 4 is 5, —, 9
    """
    timeline = scope.timeline
    is_integer = x.type in ("integer", "boolean")
    values = x.values.astype(np.int64) if is_integer else to_floats(x, "running_sum()")
    summed = timeline.to_order(np.where(x.is_missing, 0, values))
    is_start = timeline.to_order(limit_gap(scope, timeline.shift_rows(1), within, "running_sum", 1)) < 0
    starts = np.flatnonzero(is_start)
    if is_integer:
        totals, overflow = cumulate_exactly(summed, starts)
        return make_result("integer", timeline.to_rows(totals), [x], timeline.to_rows(overflow))
    total = timeline.to_rows(cumulate(summed, starts))
    with np.errstate(invalid="ignore"):
        return make_result("number", total, [x], ~np.isfinite(total))


@function(KIND, needs=IN_ORDER, keeps=True)
def carried(scope: Scope, x: Column, *, at_most: int | None = None, within: float | None = None) -> Column:
    """carried(x, at_most=2, within=…): the last present value, carried forward over at most at_most missing ones

    Examples
    --------
    carried(x, at_most=1) of x 5, —, —, 4 is 5, 5, —, 4
    """
    timeline = scope.timeline
    positions = find_last_present(timeline.to_order(~x.is_missing), timeline.starts)
    too_far = np.zeros(len(positions), np.bool_) if at_most is None else np.arange(len(positions)) - positions > at_most
    rows = np.where(x.is_missing, timeline.rows_at(np.where(too_far, -1, positions)), -1)
    steps = timeline.to_rows(np.arange(len(positions)) - positions)
    rows = limit_gap(scope, rows, within, "carried", steps)
    return choose_cells(x, x.take_or(rows, NO_OCCASION), x.is_missing & (rows >= 0))


@function(KIND, needs=IN_ORDER)
def occasion_number(scope: Scope) -> Column:
    """occasion_number(): 1 for the case's first occasion, 2 for the second, and so on

    Examples
    --------
    occasion_number() of x 5, 7, 4 is 1, 2, 3
    """
    return Column.of("integer", scope.timeline.to_rows(scope.timeline.numbers) + 1)


# ------------------------------------------------------------------- statistics


@function(KIND, needs=("case",))
def case_mean(scope: Scope, x: Column) -> Column:
    """case_mean(x): the mean of the case's values; missing ones do not count

    Examples
    --------
    case_mean(x) of x 5, —, 4 is 4.5, 4.5, 4.5
    """
    return case_statistic(scope, x, "mean")


@function(KIND, needs=("case",))
def case_count(scope: Scope, x: Column) -> Column:
    """case_count(x): how many values the case has

    Examples
    --------
    case_count(x) of x 5, —, 4 is 2, 2, 2
    """
    return case_statistic(scope, x, "n")


@function(KIND, needs=("case",), keeps=True)
def case_min(scope: Scope, x: Column) -> Column:
    """case_min(x): the minimum of the case's values

    Examples
    --------
    case_min(x) of x 5, —, 4 is 4, 4, 4
    """
    return case_statistic(scope, x, "min")


@function(KIND, needs=("case",), keeps=True)
def case_max(scope: Scope, x: Column) -> Column:
    """case_max(x): the maximum of the case's values

    Examples
    --------
    case_max(x) of x 5, —, 4 is 5, 5, 5
    """
    return case_statistic(scope, x, "max")


@function(KIND, needs=("case",))
def case_sd(scope: Scope, x: Column) -> Column:
    """case_sd(x): the standard deviation of the case's values, for a sample

    Examples
    --------
    case_sd(x) of x 5, —, 3, 4 is 1.0, 1.0, 1.0, 1.0
    """
    return case_statistic(scope, x, "sd")


@function(KIND, needs=("case",))
def case_sum(scope: Scope, x: Column) -> Column:
    """case_sum(x): the sum of the case's values

    Examples
    --------
    case_sum(x) of x 5, —, 4 is 9, 9, 9
    """
    return case_statistic(scope, x, "sum")


def case_statistic(scope: Scope, x: Column, name: str) -> Column:
    """Return a statistic of the case for each of its rows."""
    return scope.compute_statistic(x, scope.by_case, name)
