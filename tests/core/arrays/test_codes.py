"""Codes, ranks, order statistics and byte statistics agree with slow obvious versions."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays import codes as coding
from lomrix.core.arrays import matching, order_statistics, ordinals, statistics, text_bytes
from lomrix.core.arrays.types import Array

NUMBERS = st.one_of(st.none(), st.integers(-3, 6), st.integers(-(10**12), 10**12))
DECIMALS = st.sampled_from([0.0, 0.5, -0.25, 0.125, 1 / 3, 12345.6789, 1e300, 7.0])
PAIRS = st.lists(st.tuples(st.sampled_from("ab"), NUMBERS), max_size=8)


@pytest.fixture(params=["small", "large", "many groups"], autouse=True, scope="module")
def limits(request: pytest.FixtureRequest) -> Iterator[None]:
    """Once with the limits as they are, once with all that is large beginning at one value, or with one group."""
    with pytest.MonkeyPatch.context() as patch:
        if request.param == "large":
            for module in (coding, ordinals):
                patch.setattr(module, "ROOMY", -(10**6))
                patch.setattr(module, "SAMPLE", 2)
            patch.setattr(statistics, "SAMPLE", 2)
            patch.setattr(text_bytes, "BLOCK", 2)
            patch.setattr(ordinals, "BLOCK", 2)
        if request.param == "many groups":
            patch.setattr(statistics, "MANY", -1)
            patch.setattr(statistics, "SHORT", 10**6)
        yield


def filled(values: list[Any], dtype: type = np.int64) -> tuple[Any, Any]:
    """Values with 0 where one is missing, and where that is."""
    return np.array([value or 0 for value in values], dtype), np.array([value is None for value in values], np.bool_)


def check_codes(first: list[Any], second: list[Any], found: tuple[Any, Any, int]) -> None:
    """Equal codes where values are equal on either side, -1 where one is missing, all below the size."""
    values, codes = [*first, *second], [*found[0].tolist(), *found[1].tolist()]
    assert [code == -1 for code in codes] == [value is None for value in values]
    assert all(code < found[2] for code in codes)
    present = [(value, code) for value, code in zip(values, codes, strict=True) if value is not None]
    assert len({value for value, _ in present}) == len(set(present)) == len({code for _, code in present})


@given(st.lists(NUMBERS, max_size=8), st.lists(NUMBERS, max_size=8))
def test_numbers_of_two_sides(first: list[Any], second: list[Any]) -> None:
    (one, one_gone), (two, two_gone) = filled(first), filled(second)
    check_codes(first, second, coding.encode_number_pair(one, two, one_gone, two_gone))


@given(PAIRS, PAIRS)
def test_several_keys_of_two_sides(first: Any, second: Any) -> None:
    texts = coding.encode_text_pair(
        *(pa.array([text for text, _ in side], pa.large_string()) for side in (first, second))
    )
    (one, one_gone), (two, two_gone) = (filled([number for _, number in side]) for side in (first, second))
    numbers = coding.encode_number_pair(one, two, one_gone, two_gone)
    found = coding.combine_code_pairs([texts, numbers, numbers])
    left, right = ([None if pair[1] is None else pair for pair in side] for side in (first, second))
    check_codes(left, right, found)


def test_codes_of_many_keys_stay_whole() -> None:
    wide = (np.array([0, 2**40, -1]), np.array([2**40, 5, 0]), 2**41)
    first, second, size = coding.combine_code_pairs([wide, wide, wide])
    assert (first[1] == second[0], first[0] == second[2], first[2], size <= 1040) == (True, True, -1, True)
    assert len({*first.tolist(), *second.tolist()}) == 4
    both, width = coding.combine_codes(np.array([1, -1, 2]), 3, np.array([4, 0, -1]), 5)
    assert (both.tolist(), width) == ([9, -1, -1], 15)


@given(st.one_of(st.lists(NUMBERS, max_size=9), st.lists(st.one_of(st.none(), DECIMALS), max_size=9)), st.booleans())
def test_ranks_and_distinct_values(values: list[Any], several: bool) -> None:
    values = values * 3 if several else values
    dtype = np.float64 if any(isinstance(value, float) for value in values) else np.int64
    present = sorted({value for value in values if value is not None})
    array, gone = filled(values, dtype)
    rank, distinct = coding.rank_values(array, gone)
    assert distinct.tolist() == present
    assert distinct.dtype == dtype
    assert rank.tolist() == [-1 if value is None else present.index(value) for value in values]
    assert coding.find_distinct(array[~gone]).tolist() == present


@given(st.lists(st.integers(-1, 7), max_size=9))
def test_codes_without_gaps(values: list[int]) -> None:
    new, old = coding.compact_codes(np.array(values, np.int64), 8)
    there = sorted({*values} - {-1})
    assert old.tolist() == there
    assert new.tolist() == [there.index(value) if value >= 0 else -1 for value in values]


@pytest.mark.parametrize(
    ("values", "power"),
    [
        ([1.0, 2.0], 1.0),
        ([0.5, 2.0], 10.0),
        ([0.25, -1.0], 100.0),
        ([0.125], 1000.0),
        ([0.0625, 0.125], 10_000.0),
        ([0.03125], None),
        ([0.0, 1e9], None),
        ([1e300, 1e300], None),
        ([0.5, float("nan")], None),
        ([], None),
    ],
)
def test_decimals_that_can_be_counted(values: list[float], power: float | None, monkeypatch: Any) -> None:
    monkeypatch.setattr(ordinals, "ROOMY", 4)
    found = ordinals.scale_decimals(np.array(values))
    expected = None if power is None else ([round(value * power) for value in values], power)
    assert (None if found is None else (found[0].tolist(), found[1])) == expected


def test_decimals_that_the_sample_does_not_show(monkeypatch: Any) -> None:
    monkeypatch.setattr(ordinals, "ROOMY", 4)
    monkeypatch.setattr(ordinals, "SAMPLE", 2)
    found = ordinals.scale_decimals(np.array([1.0, 0.25, 3.0, 4.0]))
    assert found is not None
    assert (found[0].tolist(), found[1]) == ([100, 25, 300, 400], 100.0)
    assert ordinals.scale_decimals(np.array([1.0, 1 / 3, 3.0, 4.0])) is None


def find_quantiles(values: Array, shares: tuple[float, ...]) -> tuple[float, ...]:
    (result,) = order_statistics.find_quantiles(lambda: np.split(values, [1, 3]), len(values), shares, np.asarray)
    return result


@pytest.mark.parametrize("few", [0, 100])
def test_quantiles_of_definition_7(few: int, monkeypatch: Any) -> None:
    monkeypatch.setattr(order_statistics, "FEW", few)
    # (n - 1) times the share, between two neighbours: 1.25 of 10, 20, 40, 80, 100 is 20 and a quarter of 20.
    for kind in (np.float64, np.int64):
        values = np.array([80, 10, 100, 40, 20], kind)
        assert find_quantiles(values, (0.0, 0.3125, 0.5, 0.95, 1.0)) == pytest.approx((10, 25, 40, 96, 100))
    assert find_quantiles(np.array([-(10**9), 0, 10**9]), (0.25, 0.75)) == (-5e8, 5e8)
    assert find_quantiles(np.array([7]), (0.1, 0.9)) == (7, 7)


@given(
    st.lists(st.one_of(st.integers(-5, 300), st.integers(-(2**63), 2**63 - 1)), min_size=1, max_size=40), st.booleans()
)
def test_order_statistics_of_blocks(values: list[int], as_decimals: bool) -> None:
    array = np.array(values, np.float64 if as_decimals else np.int64)
    with mock.patch.object(order_statistics, "FEW", 0):
        blocks = [array[:7], array[7:]]
        found = order_statistics.find_order_statistics(lambda: blocks, len(array), range(len(array)))
    assert found.tolist() == sorted(array.tolist())


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(-9, 9)), min_size=1, max_size=14))
def test_statistics_of_groups(rows: list[tuple[int, int]]) -> None:
    made = statistics.Values(np.array([row[0] for row in rows]), np.array([row[1] for row in rows]), 4)
    for group in range(4):
        inside = [value for code, value in rows if code == group]
        assert made.sizes[group] == len(inside)
        found = [made.mean[group], made.quantile(0.5)[group]]
        found += [made.minimum[group], made.maximum[group]] if inside else []
        expected = [f(inside) for f in (np.mean, np.median, min, max)] if inside else [np.nan] * 2
        np.testing.assert_allclose(found, np.array(expected, np.float64))
        spread = np.std(inside, ddof=1) if len(inside) > 1 else np.nan
        np.testing.assert_allclose(made.standard_deviation[group], spread, atol=1e-9)
        assert made.total[group] == sum(inside)


TEXTS = st.lists(
    st.sampled_from(["", "0", "-", "00", "-0", "-01", "07", "1", "10", "-10", "0.5", "0x", "+5", ".5", "x0"])
)


@given(TEXTS, st.sampled_from([pa.string(), pa.large_string()]), st.integers(0, 2))
def test_what_the_bytes_report(texts: list[str], kind: Any, cut: int) -> None:
    strings, texts = pa.array(texts, kind)[cut:], texts[cut:]
    assert text_bytes.has_leading_zeros(strings) == any(re.match("-?0[0-9]", text) for text in texts)
    assert text_bytes.may_be_number(strings).tolist() == [text[:1] in set("0123456789+-.") for text in texts]
    assert text_bytes.total_length(strings) == sum(map(len, texts))
    for place in (0, 1, -1):
        expected = [ord((text[place:] or "\0")[0]) for text in texts]
        assert text_bytes.bytes_at(strings, place).tolist() == expected


@given(st.lists(st.integers(-1200, 1200), min_size=1, max_size=9), st.integers(0, 3))
def test_lengths_of_whole_numbers(values: list[int], zeros: int) -> None:
    values = [value * 10**zeros for value in values]
    found = text_bytes.decimal_length(np.array(values), min(values), max(values))
    assert found == sum(len(str(value)) for value in values)


@given(st.integers(1, 20), st.lists(st.integers(0, 19), max_size=3), st.lists(st.integers(0, 4), max_size=3))
def test_places_that_vary(length: int, places: list[int], rows: list[int]) -> None:
    texts = ["a" * length] * 5
    for place, row in zip(places, rows, strict=False):
        if place < length:
            texts[row] = texts[row][:place] + "b" + texts[row][place + 1 :]
    expected = [place for place in range(length) if len({text[place] for text in texts}) > 1]
    assert text_bytes.find_varying(pa.array(texts)) == expected
    assert text_bytes.has_byte(pa.array(texts), b"b") == bool(expected)


@given(st.lists(st.integers(-1, 3), max_size=8), st.lists(st.integers(-1, 3), max_size=8))
def test_rows_that_match(base: list[int], added: list[int]) -> None:
    one, two = np.array(base, np.int64), np.array(added, np.int64)
    counts = matching.Counts.count(one, two, 4)
    expected = []
    for row, code in enumerate(base):
        partners = [at for at, other in enumerate(added) if other == code >= 0]
        expected += [(row, partner) for partner in partners or [-1]]
    found = matching.match_rows(one, two, 4, counts)
    assert list(zip(*(side.tolist() for side in found), strict=True)) == expected
    assert counts.pairs == sum(partner >= 0 for _, partner in expected)
    assert counts.shared(one).tolist() == [code >= 0 and code in added for code in base]
    assert counts.shared_by_base(two).tolist() == [code >= 0 and code in base for code in added]


@given(st.lists(st.tuples(st.integers(0, 2), st.floats(-1e17, 1e17) | st.floats(-9, 9)), min_size=1, max_size=20))
def test_sums_of_numbers_are_the_rounded_sums(rows: list[tuple[int, float]]) -> None:
    made = statistics.Values(np.array([row[0] for row in rows]), np.array([row[1] for row in rows]), 3)
    for group in range(3):
        exact = math.fsum(value for code, value in rows if code == group)
        assert math.isclose(made.total[group], exact, rel_tol=1e-15, abs_tol=1e-6 * 2.0**-30)


@given(st.lists(st.tuples(st.integers(0, 2), st.integers(-(2**62), 2**62)), min_size=1, max_size=20))
def test_integers_are_added_and_compared_exactly(rows: list[tuple[int, int]]) -> None:
    made = statistics.Values(np.array([row[0] for row in rows]), np.array([row[1] for row in rows]), 3)
    for group in range(3):
        inside = [value for code, value in rows if code == group]
        assert made.total[group] == sum(inside)
        if inside:
            assert (made.minimum[group], made.maximum[group]) == (min(inside), max(inside))


def test_means_of_the_largest_numbers() -> None:
    made = statistics.Values(np.array([0, 0, 1]), np.array([1.5e308, 1.7e308, 3.0]), 2)
    assert made.mean.tolist() == [1.6e308, 3.0]
    assert made.total.tolist() == [np.inf, 3.0]


def test_statistics_of_many_groups_of_many_values() -> None:
    random = np.random.default_rng(7)
    codes, values = random.integers(0, 60, 900), random.integers(-400, 400, 900)
    made = statistics.Values(codes, values, 61)
    assert made._counts is None
    q90, median, distinct, commonest = made.quantile(0.9), made.quantile(0.5), made.distinct, made.most_frequent
    for group in range(60):
        own = values[codes == group]
        assert (q90[group], median[group]) == pytest.approx(tuple(np.quantile(own, (0.9, 0.5))))
        found, counts = np.unique(own, return_counts=True)
        assert (distinct[group], commonest[group]) == (len(found), found[counts.argmax()])
    assert np.isnan(q90[60])
    assert distinct[60] == 0


def test_statistics_do_not_depend_on_the_order_of_the_rows(monkeypatch: Any) -> None:
    random = np.random.default_rng(3)
    codes, values = random.integers(0, 3, 5000), np.round(random.normal(50, 9, 5000), 3)
    order = random.permutation(5000)
    found = set()
    for many, rows in ((10**6, np.arange(5000)), (10**6, order), (-1, order)):
        monkeypatch.setattr(statistics, "MANY", many)
        made = statistics.Values(codes[rows], values[rows], 4)
        found.add((made.total.tobytes(), made.mean.tobytes(), made.variance[:3].tobytes()))
    assert len(found) == 1
