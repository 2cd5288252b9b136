"""Texts in the order in which people count, by whichever of its ways it is found."""

from __future__ import annotations

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.rows.keys import sort_texts
from lomrix.core.table.header import natural_key


def in_order(texts: list[str]) -> list[str]:
    return [texts[at] for at in sort_texts(pa.array(texts, pa.large_string()))]


@pytest.mark.parametrize(
    "right",
    [
        ["K0000", "K0002", "K0010", "K0100", "K9000"],  # one shape, only digits differ
        ["07-A1", "10-A0", "10-A1"],
        ["a01", "A02", "b01", "B02"],  # letters differ too: capitals beside small letters
        ["Ö1", "Ö3", "Ö7"],
        [f"{n:018d}" for n in (0, 5, 10**17)],
        ["0" * 19, "9" + "0" * 18, "9" * 19],  # more digits than an integer holds
        ["m3", "m12", "M100"],  # several shapes: runs of digits as numbers
        ["one"],
        [],
    ],
)
def test_texts_are_as_people_count(right: list[str]) -> None:
    assert in_order(right[::-1]) == right


@given(st.sets(st.integers(0, 10**8 - 1), max_size=40), st.sampled_from(["K{:08d}", "{:08d}", "k-{:08d}/x"]))
def test_ids_of_one_shape_are_as_their_numbers(numbers: set[int], shape: str) -> None:
    assert in_order([shape.format(number) for number in numbers]) == [shape.format(n) for n in sorted(numbers)]


@given(st.sets(st.text("aAb019 -zÄäße٣\x1f", max_size=7), max_size=9))
def test_any_texts_are_as_the_slow_way_sorts_them(texts: set[str]) -> None:
    assert in_order(list(texts)) == sorted(texts, key=lambda text: (natural_key(text.casefold()), text))
