"""Whole numbers of 64 bits agree with Python's, which have no end."""

from __future__ import annotations

import operator
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from lomrix.core.arrays.exact import LOWEST, WHOLE_ARITHMETIC, absolute, negate, power

HIGHEST = 2**63 - 1
EDGES = [LOWEST, LOWEST + 1, -(2**62), -(2**32), -2, -1, 0, 1, 2, 3, 2**31, 2**32, 2**62, HIGHEST]
NUMBERS = st.sampled_from(EDGES) | st.integers(LOWEST, HIGHEST) | st.integers(-9, 9)
PAIRS = st.lists(st.tuples(NUMBERS, NUMBERS), min_size=1, max_size=8)
OBVIOUS: dict[str, Callable[[int, int], int]] = {
    "Add": operator.add, "Sub": operator.sub, "Mult": operator.mul, "FloorDiv": operator.floordiv, "Mod": operator.mod,
}  # fmt: skip


def result(how: Callable[..., int], *operands: int) -> int | None:
    """What Python gives where 64 bits hold it."""
    try:
        value = how(*operands)
    except ZeroDivisionError:
        return None
    return value if LOWEST <= value <= HIGHEST else None


def cells(values: np.ndarray, bad: np.ndarray | None) -> list[int | None]:
    gone = [False] * len(values) if bad is None else bad.tolist()
    return [None if one else value for value, one in zip(values.tolist(), gone, strict=True)]


@pytest.mark.parametrize("word", sorted(OBVIOUS))
@given(pairs=PAIRS)
@example(pairs=[(-1, 5), (2**62, 4), (LOWEST, 3), (3, LOWEST)])
@example(pairs=[(LOWEST, -1), (-1, LOWEST), (LOWEST, 1), (7, 0), (0, 0)])
def test_arithmetic(word: str, pairs: list[tuple[int, int]]) -> None:
    one, two = (np.array(side, np.int64) for side in zip(*pairs, strict=True))
    with np.errstate(over="ignore"):
        found = cells(*WHOLE_ARITHMETIC[word](one, two))
    assert found == [result(OBVIOUS[word], *pair) for pair in pairs]


@given(st.lists(st.tuples(NUMBERS, st.integers(0, 70)), min_size=1, max_size=8))
@example([(2, 62), (2, 63), (-2, 62), (3, 39), (3, 40), (LOWEST, 1), (10, 18), (10, 19), (0, 0)])
@example([(-8, 21), (8, 21), (-2, 63), (-(2**21), 3), (-(2**9), 7), (-7, 23), (2097151, 3), (-2097153, 3)])
def test_powers(pairs: list[tuple[int, int]]) -> None:
    one, two = (np.array(side, np.int64) for side in zip(*pairs, strict=True))
    assert cells(*power(one, two)) == [result(operator.pow, *pair) for pair in pairs]


@given(st.lists(NUMBERS, min_size=1, max_size=8))
def test_characters(values: list[int]) -> None:
    array = np.array(values, np.int64)
    with np.errstate(over="ignore"):
        assert cells(*negate(array)) == [result(operator.neg, value) for value in values]
        assert cells(*absolute(array)) == [result(abs, value) for value in values]
