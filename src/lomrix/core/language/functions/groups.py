"""Functions of groups: a statistic of each row's group, and the group's number."""

from __future__ import annotations

import numpy as np

from lomrix.core.language.function import function
from lomrix.core.language.operands import make_result
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column

KIND = "groups"
Keys = tuple[Column, ...]


@function(KIND, by_row=False)
def group_mean(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_mean(x, by=vessel): the mean of the row's group; by=(vessel, month) for several columns

    Examples
    --------
    group_mean(x, by=g) of x 5, 7, 1; g a, a, b is 6.0, 6.0, 1.0
    """
    return scope.compute_statistic(x, scope.group_by(by), "mean")


@function(KIND, by_row=False)
def group_count(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_count(x, by=vessel): how many values the row's group has

    Examples
    --------
    group_count(x, by=g) of x 5, —, 1; g a, a, b is 1, 1, 1
    """
    return scope.compute_statistic(x, scope.group_by(by), "n")


@function(KIND, by_row=False)
def group_sum(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_sum(x, by=vessel): the sum of the row's group

    Examples
    --------
    group_sum(x, by=g) of x 5, 7, 1; g a, a, b is 12, 12, 1
    """
    return scope.compute_statistic(x, scope.group_by(by), "sum")


@function(KIND, by_row=False, keeps=True)
def group_min(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_min(x, by=vessel): the minimum of the row's group

    Examples
    --------
    group_min(x, by=g) of x 5, 7, 1; g a, a, b is 5, 5, 1
    """
    return scope.compute_statistic(x, scope.group_by(by), "min")


@function(KIND, by_row=False, keeps=True)
def group_max(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_max(x, by=vessel): the maximum of the row's group

    Examples
    --------
    group_max(x, by=g) of x 5, 7, 1; g a, a, b is 7, 7, 1
    """
    return scope.compute_statistic(x, scope.group_by(by), "max")


@function(KIND, by_row=False)
def group_sd(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_sd(x, by=vessel): the standard deviation of the row's group, for a sample

    Examples
    --------
    group_sd(x, by=g) of x 5, 7, 6, 1; g a, a, a, b is 1.0, 1.0, 1.0, —
    """
    return scope.compute_statistic(x, scope.group_by(by), "sd")


@function(KIND, by_row=False)
def group_median(scope: Scope, x: Column, *, by: Keys) -> Column:
    """group_median(x, by=vessel): the median of the row's group

    Examples
    --------
    group_median(x, by=g) of x 5, 7, 9, 1; g a, a, a, b is 7.0, 7.0, 7.0, 1.0
    """
    return scope.compute_statistic(x, scope.group_by(by), "median")


@function(KIND, by_row=False)
def group_number(scope: Scope, a: Column, *more: Column) -> Column:
    """group_number(a, b): 1, 2, 3 for groups of equal values, in order of appearance

    Examples
    --------
    group_number(g) of g b, a, b, — is 1, 2, 1, —
    """
    groups = scope.group_by((a, *more))
    return make_result("integer", np.maximum(groups.codes, 0) + 1, [a, *more])
