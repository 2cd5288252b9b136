"""Functions about missing cells and row numbers."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import align
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column, choose_cells
from lomrix.core.table.pool import Pool

KIND = "what is missing, and the row"


@function(KIND)
def is_missing(x: Column) -> Column:
    """is_missing(x): true where the cell is missing; never missing itself

    Examples
    --------
    is_missing(x) of x 5, — is False, True
    """
    return Column.of("boolean", x.is_missing)


@function(KIND)
def reason(x: Column) -> Column:
    """reason(x): why a cell is missing, as text; an empty text where it is present

    Examples
    --------
    reason(x) == 'blank' of x 5, — is False, True
    """
    why = np.zeros(len(x), np.int32) if x.why is None else x.why.astype(np.int32)
    return Column.of_strings(why, Pool(pa.array(["", *x.reasons], pa.large_string())))


@function(KIND, keeps=True)
def first_present(a: Column, b: Column, *more: Column) -> Column:
    """first_present(a, b, …): the first operand that is not missing

    Examples
    --------
    first_present(x, y, 0) of x 5, —, —; y 6, 7, — is 5, 7, 0
    """
    result = a
    for other in (b, *more):
        # Decided before conversion, since the common type may not hold a present value.
        takes_other = result.is_missing & ~other.is_missing
        if result.type != other.type:
            result, other = align(result, other)
        result = choose_cells(result, other, takes_other)
    return result


@function(KIND)
def missing(scope: Scope, reason: str) -> Column:
    """missing("implausible"): a missing value, with a reason of your own

    Examples
    --------
    x if x < 900 else missing("implausible") of x 5, 999 is 5, —
    """
    if not reason.strip():
        raise UsageError("missing() needs a reason.", todo='Write missing("implausible").')
    return Column.all_missing("string", len(scope), reason.strip())


@function(KIND)
def row_number(scope: Scope) -> Column:
    """row_number(): 1 for the first row of data, 2 for the second, and so on

    Examples
    --------
    row_number() of x 5, 7 is 1, 2
    """
    return Column.of("integer", np.arange(1, len(scope) + 1))
