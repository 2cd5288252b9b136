"""Spells against slow obvious versions."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.spells import SortedSpells

SPELLS = st.lists(st.tuples(st.integers(-1, 3), st.integers(0, 9), st.integers(0, 6)), max_size=10)
TIMES = st.lists(st.tuples(st.integers(-1, 3), st.integers(-2, 17)), max_size=12)


@given(SPELLS, TIMES, st.booleans())
def test_what_covers_a_time_and_what_overlaps(
    spells: list[tuple[int, int, int]], times: list[tuple[int, int]], as_decimals: bool
) -> None:
    kind = np.float64 if as_decimals else np.int64
    codes = np.array([code for code, _, _ in spells], np.int64)
    starts = np.array([start for _, start, _ in spells], kind)
    ends = np.array([start + length for _, start, length in spells], kind)
    base, when = (np.array([time[part] for time in times], np.int64) for part in (0, 1))
    found = SortedSpells(codes, 4, starts, ends, when.astype(kind))
    pairs = found.find_covering(base)
    expected = {(row, spell) for row, code in enumerate(base) for spell in range(len(codes))
                if code == codes[spell] >= 0 and starts[spell] <= when[row] <= ends[spell]}  # fmt: skip
    assert list(pairs[0]) == sorted(pairs[0])
    assert {*zip(*(side.tolist() for side in pairs), strict=True)} == expected and len(pairs[0]) == len(expected)
    in_order = sorted((row for row in range(len(codes)) if codes[row] >= 0), key=lambda row: (codes[row], starts[row]))
    assert found.order.tolist() == in_order
    overlaps: dict[int, float] = {}
    gaps: dict[int, float] = {}
    for position, row in enumerate(in_order):
        before = [other for other in in_order[:position] if codes[other] == codes[row]]
        if before:
            reach = max(ends[other] for other in before)
            kind_of = overlaps if starts[row] <= reach else gaps if starts[row] - reach > 1 else {}
            kind_of[row] = reach
    for mine, theirs in ((found.overlaps, overlaps), (found.find_gaps(1), gaps)):
        assert {row: ends[other] for row, other in zip(*(side.tolist() for side in mine), strict=True)} == theirs
