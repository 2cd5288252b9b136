"""Kernels on bytes and runs agree with slow obvious versions."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.shaped_texts import DIGIT, format_shaped, parse_shaped, parse_shaped_pair
from lomrix.core.rows.cases import Cases, find_row_changes
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from tests.tables import column, table

# Texts of one length and texts of several, with and without digits in the same places.
IDS = st.sampled_from(["K0000001", "K0000002", "K0000012", "K00000012", "K00000013", "L0000001", "", "ä", "K000000x"])
LENGTHS = st.sampled_from(
    [("K0000001", "K0000002", "J9999999"), ("K00000012A", "K00000013A", "K10000012A"), ("7", "8")]
)


@st.composite
def texts(draw: st.DrawFn, least: int = 1) -> Any:
    """Arrow strings with either kind of offsets, sometimes a slice of a longer array."""
    values = draw(st.lists(draw(st.sampled_from([IDS, LENGTHS.flatmap(st.sampled_from)])), min_size=least, max_size=9))
    cut = draw(st.integers(0, len(values) - least))
    return pa.array(values, draw(st.sampled_from([pa.string(), pa.large_string()])))[cut:]


@given(texts())
def test_texts_that_differ_from_the_one_above(strings: Any) -> None:
    values = strings.to_pylist()
    expected = [one != two for one, two in zip(values[1:], values[:-1], strict=True)]
    assert text_bytes.differs_from_above(strings).tolist() == expected


@given(texts())
def test_ascending_texts_are_never_claimed_wrongly(strings: Any) -> None:
    values = [text.encode() for text in strings.to_pylist()]
    ascending = all(one < two for one, two in pairwise(values))
    alike = len({len(value) for value in values}) == 1 and 8 <= len(values[0]) <= 16
    assert text_bytes.is_ascending(strings) == (ascending and alike)


@pytest.mark.parametrize(
    ("values", "ascending", "differ"),
    [
        # The order is that of the bytes from the first to the last.
        (["aaaaaaab", "baaaaaaa"], True, [True]),
        (["baaaaaaa", "aaaaaaab"], False, [True]),
        (["aaaaaaaaB1", "aaaaaaaaB2", "aaaaaaabA0"], True, [True, True]),
        (["aaaaaaaaB2", "aaaaaaaaB1", "aaaaaaabA0"], False, [True, True]),
        (["aaaaaaaaBBBBBBBB", "aaaaaaaaCCCCCCCC", "aaaaaaaaCCCCCCCC"], False, [True, False]),
        # Of texts of three words it is not looked for.
        (["aaaaaaaaBBBBBBBBcccccccc", "aaaaaaaaAAAAAAAAdddddddd"], False, [True]),
        (["aaaaaaaaAAAAAAAAcccccccc", "aaaaaaaaAAAAAAAAdddddddd"], False, [True]),
    ],
)
def test_texts_of_several_words(values: list[str], ascending: bool, differ: list[bool]) -> None:
    strings = pa.array(values, pa.large_string())
    assert text_bytes.is_ascending(strings) == ascending
    assert text_bytes.differs_from_above(strings).tolist() == differ


@pytest.mark.parametrize(
    ("values", "found"),
    [
        (["-5", "10"], False), (["-05", "10"], True), (["-0", "0"], False), (["00"], True), (["-", "1"], False),
        (["0.5", "-0.5"], False), (["", "05"], True), (["-1", "0", "-00"], True), (["10", "100"], False),
    ],
)  # fmt: skip
def test_leading_zeros(values: list[str], found: bool) -> None:
    assert text_bytes.has_leading_zeros(pa.array(values, pa.large_string())) == found


SIDES = st.lists(st.integers(0, 130), min_size=1, max_size=6).map(lambda some: [f"K{one:04}" for one in some])


@given(SIDES, SIDES | st.just(["K9"]) | st.just(["L0001", "L0002"]))
def test_ids_of_two_sides_are_equal_where_their_numbers_are(first: list[str], second: list[str]) -> None:
    sides = [pa.array(side, pa.large_string()) for side in (first, second)]
    found = parse_shaped_pair(*sides)
    if found is None:
        assert second[0][0] == "L" or len(second[0]) == 2
        return
    for one, number in zip(first, found[0].tolist(), strict=True):
        for two, other in zip(second, found[1].tolist(), strict=True):
            assert (one == two) == (number == other)


def test_numbers_of_two_sides_by_the_wider_shape() -> None:
    # K041~ beside K1~~2: what is fixed on one side only counts as a digit of both.
    sides = [pa.array(side, pa.large_string()) for side in (["K0412", "K0413"], ["K1052", "K1992", "K1412"])]
    found = parse_shaped_pair(*sides)
    assert found is not None
    assert [side.tolist() for side in found] == [[412, 413], [1052, 1992, 1412]]
    assert format_shaped(np.array([412, 7, 130]), b"K" + 4 * bytes([DIGIT])).to_pylist() == ["K0412", "K0007", "K0130"]


@given(texts())
def test_ids_of_one_shape_are_equal_where_their_numbers_are(strings: Any) -> None:
    shaped = parse_shaped(strings.cast(pa.large_string()))
    if shaped is not None:
        pairs = list(zip(strings.to_pylist(), shaped[0].tolist(), strict=True))
        assert all((one[0] == two[0]) == (one[1] == two[1]) for one in pairs for two in pairs)
        assert format_shaped(*shaped).to_pylist() == strings.to_pylist()


@pytest.mark.parametrize(
    ("values", "numbers", "shape"),
    [
        (["K0412", "K0413", "K1412"], [2, 3, 12], b"K~41~"),
        (["AB000012", "AB000915"], [2, 95], b"AB000~1~"),
        (["K04120001X", "K04120002X"], [1, 2], b"K0412000~X"),
        (["1#7", "2#7"], [1, 2], b"~#7"),
        (["K1", "L1"], None, b""),
        (["K1", "K12"], None, b""),
    ],
)
def test_shapes(values: list[str], numbers: list[int] | None, shape: bytes) -> None:
    found = parse_shaped(pa.array(values, pa.large_string()))
    # Digits that are the same throughout belong to the shape.
    assert (None if found is None else (found[0].tolist(), found[1])) == (
        None if numbers is None else (numbers, shape.replace(b"~", bytes([DIGIT])))
    )


@given(texts())
def test_bytes_that_are_used(strings: Any) -> None:
    used = set(b"".join(text.encode() for text in strings.to_pylist()))
    assert set(np.flatnonzero(text_bytes.find_bytes(strings)).tolist()) == used


CELLS = st.one_of(st.none(), st.sampled_from(["u", "v", "w"]))


@given(st.lists(CELLS, min_size=1, max_size=12), st.data())
def test_cells_taken_and_repeated(cells: list[str | None], data: st.DataObject) -> None:
    made = column(["u", *cells]).slice(1, len(cells) + 1)
    rows = data.draw(st.lists(st.integers(0, len(cells) - 1), max_size=8))
    assert made.take(np.array(rows, np.int64)).cells() == [cells[row] for row in rows]
    times = data.draw(st.lists(st.integers(0, 3), min_size=len(cells), max_size=len(cells)))
    expected = [cell for cell, count in zip(cells, times, strict=True) for _ in range(count)]
    assert made.repeat(np.array(times)).cells() == expected


@given(st.lists(CELLS, min_size=1, max_size=12))
def test_changes_from_row_to_row(cells: list[str | None]) -> None:
    expected = [one != two for one, two in zip(cells[1:], cells[:-1], strict=True)]
    plain = column(["u", *cells]).slice(1, len(cells) + 1)
    for made in (plain, plain.encode()):
        assert find_row_changes(made).tolist() == expected


ROWS = st.lists(st.tuples(st.sampled_from("abc"), st.one_of(st.none(), st.integers(0, 2))), min_size=1, max_size=14)


def by_case(rows: list[tuple[str, Any]]) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for case, value in rows:
        found.setdefault(case, []).append(value)
    return found


@given(ROWS)
def test_what_changes_within_a_case(rows: list[tuple[str, Any]]) -> None:
    cases = Cases(table(id=[case for case, _ in rows], x=[0, *[value for _, value in rows]][1:]), ("id",))
    groups = by_case(rows)
    assert cases.format_cases(np.arange(len(cases))) == list(groups)
    assert cases.of_row.tolist() == [list(groups).index(case) for case, _ in rows]
    variation = cases.find_variation("x")
    assert variation.unequal == sum(len(set(values)) > 1 for values in groups.values())
    contradicting = [case for case, values in groups.items() if len({*values} - {None}) > 1]
    assert variation.contradicting == len(contradicting)
    assert [text.split(" (")[0] for _, text in variation.examples.items] == contradicting[:4]


@given(ROWS)
def test_one_value_for_each_case(rows: list[tuple[str, Any]]) -> None:
    held = Column.of_cells("integer", [value for _, value in rows])
    cases = Cases(Table({"id": column([case for case, _ in rows]), "x": held}), ("id",))
    present = [[value for value in values if value is not None] or [None] for values in by_case(rows).values()]
    expected = {
        "first": [values[0] for values in present],
        "last": [values[-1] for values in present],
        "commonest": [Counter(values).most_common(1)[0][0] for values in present],
    }
    for choice in ("first", "last", "commonest"):
        assert held.take(cases.choose_row_per_case(held, choice)).cells() == expected[choice]
