"""Whole numbers stay whole, and what 64 bits do not hold is undefined, cell by cell."""

from __future__ import annotations

import decimal
import operator
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.exact import HALF, LOWER, join_halves
from lomrix.core.arrays.rounding import round_decimals, round_integers
from lomrix.core.errors import DataError
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.scope import Scope
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs
from tests.tables import rows, sources, table

# The first whole number that decimals do not hold.
LONG = 9007199254740993
ANY = st.one_of(st.integers(-(2**63), 2**63 - 1), st.sampled_from([LONG, -LONG, 2**63 - 1, -(2**63), 0, 1]))
DECIMALS = st.one_of(st.floats(allow_nan=False), ANY.map(float), st.integers(-100, 100).map(lambda one: one / 4))


@pytest.mark.parametrize(("expression", "cells"), [
    ('max_of("a,b")', [LONG, 5]), ('sum_of("a,b")', [LONG + 3, 9]), ('min_of("a,b")', [3, 4]),
    ("round(a, 0)", [LONG, 4]), ("round(a, -1)", [LONG - 3, 0]), ("max(a, b)", [LONG, 5]), ("max(a, True)", [LONG, 4]),
    ("a == 9007199254740992.0", [False, False]), ("a > 9007199254740992.0", [True, False]),
    ("first_present(a, 0.5)", [None, 4.0]), ("min(a, 0.5)", [None, 0.5]),
    ('sum_of("big,big2")', [None, 7]), ("case_sum(big)", [None, 3]), ("running_sum(big)", [2**62, 3]),
    ('sum_of("big,big2,less")', [2**63 - 1, 7]), ("floor(y)", [None, 2]), ("round(y)", [None, 2]),
])  # fmt: skip
def test_whole_numbers_stay_whole(expression: str, cells: list[Any]) -> None:
    source = table(
        id=[1, 2], w=[0, 0], a=[LONG, 4], b=[3, 5], big=[2**62, 3], big2=[2**62, 4], less=[-1, 0], y=[1e300, 2.5]
    )
    if expression.startswith("case_sum"):
        source = table(id=[1, 1, 2], w=[0, 1, 0], big=[2**62, 2**62, 3])
        cells = [cells[0], *cells]
    made = evaluate(expression, Scope(source, ("id",), ("w",)))
    assert made.cells() == cells
    decides = "=" in expression or ">" in expression
    assert made.type == ("boolean" if decides else "number" if "0.5" in expression else "integer")


@given(ANY, DECIMALS)
def test_a_whole_number_and_a_decimal_are_compared_exactly(whole: int, decimal: float) -> None:
    for character, compare in (("<", operator.lt), ("<=", operator.le), ("==", operator.eq), ("!=", operator.ne),
                          (">", operator.gt), (">=", operator.ge)):  # fmt: skip
        source = table(a=[whole], b=[decimal])
        # Infinity is undefined in every column of numbers.
        if abs(decimal) != float("inf"):
            assert evaluate(f"a {character} b", source).cells() == [compare(Fraction(whole), Fraction(decimal))]
            assert evaluate(f"b {character} a", source).cells() == [compare(Fraction(decimal), Fraction(whole))]


@given(st.lists(ANY, min_size=1, max_size=5))
def test_sums_in_halves(values: list[int]) -> None:
    array = np.array(values, np.int64)
    total, beyond = join_halves((array >> HALF).sum(keepdims=True), (array & LOWER).sum(keepdims=True))
    held = -(2**63) <= sum(values) < 2**63
    assert (bool(beyond[0]), int(total[0])) == (not held, sum(values) if held else 0)


@given(st.lists(st.one_of(st.floats(-1e9, 1e9), st.integers(-99999, 99999).map(lambda one: one / 1000)), min_size=1),
       st.integers(-3, 6))  # fmt: skip
def test_rounding_goes_by_the_decimal_text(values: list[float], places: int) -> None:
    unit = decimal.Decimal(1).scaleb(-places)
    expected = [float(decimal.Decimal(repr(one)).quantize(unit, decimal.ROUND_HALF_EVEN)) for one in values]
    assert round_decimals(np.array(values), places).tolist() == expected


@given(st.lists(ANY, min_size=1), st.integers(-20, 0))
def test_rounding_of_whole_numbers(values: list[int], places: int) -> None:
    unit = 10**-places
    made, beyond = round_integers(np.array(values, np.int64), places)
    for at, value in enumerate(values):
        tens, rest = divmod(value, unit)
        expected = (tens + (2 * rest > unit or (2 * rest == unit and tens % 2 == 1))) * unit
        held = -(2**63) <= expected < 2**63
        assert (beyond is None or not beyond[at]) == held
        assert not held or made[at] == expected


def test_a_sum_beyond_64_bits_is_undefined_for_its_group_only() -> None:
    made = Aggregate(by=("g",), stat=("x: sum",)).apply(sources(table(g=[1, 1, 2], x=[2**62, 2**62, LONG])))
    assert (made.table["x_sum"].type, made.table["x_sum"].cells()) == ("integer", [None, LONG])


def test_keys_and_overlaps_stay_whole_beside_decimals() -> None:
    base, added = table("a", k=[LONG, 5], x=[1, LONG]), table("b", k=[5.0, 6.0], x=[None, 2.0])
    merged = Merge(key=("k",), overlap="fill").apply(Inputs(base=base, added=[added.only(["k"]), added])).table
    assert (merged["k"].type, merged["k"].cells()) == ("integer", [LONG, 5, 6])
    assert (merged["x"].type, merged["x"].cells()) == ("integer", [1, LONG, 2])
    fractions = table("c", k=[6.5])
    # No type of numbers holds both, so that the key is text.
    assert Merge(key=("k",)).apply(Inputs(base=base.only(["k"]), added=fractions)).table["k"].cells() == [
        str(LONG), "5", "6.5",
    ]  # fmt: skip
    with pytest.raises(DataError, match="x is not of one type"):
        Stack().apply(Inputs(source=[base.only(["x"]), table("d", x=[2.5])]))
    assert rows(Stack().apply(Inputs(source=[table(x=[1]), table("d", x=[2.5])])).table) == [(1.0,), (2.5,)]
