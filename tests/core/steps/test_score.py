"""Score: sums and means by hand, items reversed once and not twice, and reliability."""

from __future__ import annotations

import itertools
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.scales import compute_reliability
from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.score.settings import Score
from lomrix.core.steps.step import Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.scale import Scale
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.files.dictionary_file import read_dictionary
from tests.tables import lomrix, parts_of, reasons, sources, table

ITEMS: dict[str, Any] = {"id": [1, 2, 3, 4], "f1": [1, 2, 3, None], "f2": [2, 1, 0, 1], "f3": [1, 3, None, None]}


def score(source: Table, **settings: Any) -> Result:
    return Score(**{"name": "s", "items": "f1..f3", **settings}).apply(sources(source))


def test_a_sum_needs_all_items_unless_it_is_stated() -> None:
    made = score(table(**ITEMS), span="0:3").table
    assert (made["s"].cells(), made["s"].type) == ([4, 6, None, None], "integer")
    assert reasons(made["s"]) == [None, None, "blank", "blank"]
    assert (made.dictionary.of("s").minimum, made.dictionary.of("s").maximum) == (0, 9)


def test_sums_are_prorated_and_items_reversed() -> None:
    # Turned, f2 is 1 2 3 2: row 3 has 3 + 3 of two items, so 9; row 4 has one item only.
    result = score(table(**ITEMS), reverse="f2", span="0:3", at_least=2)
    assert result.table["s"].cells() == [3.0, 7.0, 9.0, None]
    assert reasons(result.table["s"])[3] == "too-few"
    assert parts_of(result.account.balances[0]) == {"from all items": 2, "from some items": 1, "none (too-few)": 1}
    assert result.table["f2"].cells() == ITEMS["f2"]
    means = score(table(**ITEMS), reverse="f2", span="0:3", at_least=1, method="mean").table
    assert means["s"].cells() == pytest.approx([1, 7 / 3, 3, 2])
    assert means.dictionary.of("s").description == (
        "Score: mean of f1..f3, f2 reversed within 0 to 3, at least 1 of 3 present."
    )


@pytest.mark.parametrize("largest", [2**63 - 1, 1.5e308])
def test_a_score_beyond_the_range_of_numbers_is_undefined(largest: float) -> None:
    result = score(table(f1=[largest, 1, None], f2=[largest, 2, 3], f3=[0, 0, 0]))
    assert (result.table["s"].cells(), reasons(result.table["s"])) == ([None, 3, None], ["undefined", None, "blank"])
    assert result.account.listings[0].rows[0][:2] == ("s", 1)
    assert CrossProducts.of([np.array([-1e308, 1e308])]).covariance.tolist() == [[np.inf]]


def test_cells_outside_the_span_stop_the_work() -> None:
    with pytest.raises(DataError, match="2 cells are outside the span 0 to 2") as stopped:
        score(table(**ITEMS), span="0:2")
    assert stopped.value.where == "row 3 f3 3; row 4 f1 3"
    known = Dictionary({name: Variable(minimum=0, maximum=2) for name in ("f1", "f2", "f3")})
    with pytest.raises(DataError, match="outside the span 0 to 2"):
        score(table(**ITEMS, dictionary=known))


def test_alpha_by_hand_and_by_the_formula_of_spearman_and_brown() -> None:
    # Variances 5/3, covariance 1, r 0.6: alpha is 2 (1 - (10/3) / (16/3)) = 0.75 = 2 r / (1 + r).
    found = compute_reliability(CrossProducts.of([np.array([1.0, 2, 3, 4]), np.array([2.0, 1, 4, 3])]))
    assert found.n == 4
    assert found.alpha == pytest.approx(0.75)
    assert found.item_rest == pytest.approx([0.6, 0.6])
    assert np.isnan(found.alpha_without).all()


@given(st.lists(st.lists(st.integers(0, 4), min_size=4, max_size=4), min_size=3, max_size=12))
def test_reliability_as_the_obvious_way(rows: list[list[int]]) -> None:
    items = np.array(rows, np.float64)
    found, total = compute_reliability(CrossProducts.of(list(items.T))), items.sum(axis=1)
    if np.var(total) > 0:
        assert found.alpha == pytest.approx(4 / 3 * (1 - np.var(items, axis=0).sum() / np.var(total)))
    for at in range(4):
        others = total - items[:, at]
        if np.var(items[:, at]) > 0 and np.var(others) > 0:
            assert found.item_rest[at] == pytest.approx(np.corrcoef(items[:, at], others)[0, 1], abs=1e-9)
            three = np.delete(items, at, axis=1)
            expected = 3 / 2 * (1 - np.var(three, axis=0).sum() / np.var(others))
            assert found.alpha_without[at] == pytest.approx(expected)


NUMBERS = st.sampled_from([0.0, 1.0, 3.0, -2.5, 0.1, 1 / 3, 1e15 / 7, -(2.0**60), 1e-20])


def test_sums_of_many_rows_are_exact() -> None:
    rows, value = 1100 << 13, 0.99999999  # with so many, products in int64 would be beyond it
    found = CrossProducts.of([np.full(rows, value)])
    assert (found.sums[0], found.products[0, 0]) == (Fraction(value) * rows, Fraction(value) ** 2 * rows)


@given(st.lists(st.tuples(NUMBERS, NUMBERS, NUMBERS), max_size=12), st.integers(0, 12))
@example([(1e308, 5e-324, 0.1), (-1e308, 3.0, 1.0)], 1)
def test_sums_of_products_are_exact_and_add_up(rows: list[tuple[float, ...]], cut: int) -> None:
    items = [np.array([row[at] for row in rows]) for at in range(3)]
    parts = [CrossProducts.of([item[part] for item in items]) for part in (slice(cut), slice(cut, None))]
    for made in (CrossProducts.of(items), parts[0].combine(parts[1])):
        assert made.sums.tolist() == [sum(map(Fraction, item.tolist())) for item in items]
        for i, j in itertools.product(range(3), repeat=2):
            assert made.products[i, j] == sum(Fraction(row[i]) * Fraction(row[j]) for row in rows)


def test_an_item_against_the_others_is_pointed_at() -> None:
    source = table(f1=[0, 1, 2, 3], f2=[3, 2, 1, 0], f3=[0, 1, 3, 3])
    (note,) = [note for note in score(source, span="0:3").account.notes if note.kind == "against"]
    assert note.text.startswith("f2 runs against the other items")
    assert not score(source, span="0:3", reverse="f2").account.notes


def test_what_was_turned_before_is_not_turned_again() -> None:
    source = table(**ITEMS)
    turned = Recode(reverse="f2", span="0:3").apply(sources(source)).table
    result = score(turned, reverse="f2", span="0:3", at_least=2)
    assert result.table["s"].cells() == [3.0, 7.0, 9.0, None]
    assert "turned-already" in {note.kind for note in result.account.notes}
    back = Recode(reverse="f2", span="0:3").apply(sources(turned)).table
    assert score(back, reverse="f2", span="0:3", at_least=2).table["s"].cells() == [3.0, 7.0, 9.0, None]


def test_the_history_shows_it_too(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,f1,f2\n1,0,3\n2,3,1\n")
    lomrix("recode", "a.csv", "--reverse", "f2", "--span", "0:3", "--out", "b.csv", cwd=tmp_path)
    words = ("--name", "s", "--items", "f1,f2", "--reverse", "f2", "--span", "0:3", "--out", "-", "--quiet")
    assert lomrix("score", "b.csv", *words, cwd=tmp_path)[0] == "id,f1,f2,s\n1,0,0,0\n2,3,2,5\n"


def test_scales_of_the_dictionary_at_each_occasion_of_a_wide_file() -> None:
    known = Dictionary(scales={"tired": Scale(items="f1..f2", reverse="f2", span="0:3", at_least=1, label="Tired")})
    source = table(id=[1, 2], f1_m0=[1, 2], f2_m0=[3, None], f1_m6=[2, 3], dictionary=known)
    result = Score(header="{measure}_m{month}").apply(sources(source))
    assert result.table["tired_m0"].cells() == [1, 4]
    assert result.table["tired_m6"].cells() == [4, 6]
    assert result.table.dictionary.of("tired_m6").label == "Tired, month 6"
    assert "item-not-in-file" in {note.kind for note in result.account.notes}
    with pytest.raises(UsageError, match="no scale tird"):
        Score(scale="tird").apply(sources(source))
    with pytest.raises(UsageError, match="declares no scale"):
        Score().apply(sources(table(f1=[1])))


@pytest.mark.parametrize(
    ("settings", "what"),
    [
        ({"reverse": "f2"}, "needs the span"),
        ({"reverse": "id", "span": "0:3"}, "is not an item"),
        ({"at_least": 4}, "4 cannot be present"),
        ({"items": "f1..f9"}, "No column f4"),
    ],
)
def test_what_does_not_fit_the_table(settings: dict[str, Any], what: str) -> None:
    with pytest.raises(UsageError, match=what):
        score(table(**ITEMS), **settings)


def test_words_are_not_items() -> None:
    with pytest.raises(DataError, match="f1 is string"):
        score(table(f1=["a"], f2=[1], f3=[1]))


@pytest.mark.parametrize(
    ("settings", "name"),
    [
        ({"name": "s"}, "items"),
        ({"items": "f1"}, "name"),
        ({"span": "0:3"}, "name"),
        ({"name": "s", "items": "f1", "scale": "x"}, "scale"),
        ({"name": "s", "items": "f1", "span": "3:0"}, "span"),
        ({"header": "{month}"}, "header"),
    ],
)
def test_settings_that_cannot_be(settings: dict[str, str], name: str) -> None:
    with pytest.raises(SettingError) as stopped:
        Score(**settings)
    assert stopped.value.setting == name


def test_scales_are_in_dictionaries_of_every_form(tmp_path: Path) -> None:
    text = (
        '[variables.f1]\nlabel = "x"\n\n[scales.tired]\nitems = "f1..f6"\nreverse = "f2"\nspan = "0:3"\nat_least = 5\n'
    )
    (tmp_path / "d.toml").write_text(text)
    expected = {"tired": Scale(items="f1..f6", reverse="f2", span="0:3", at_least=5)}
    assert read_dictionary(str(tmp_path / "d.toml")).scales == expected
    for name in ("d.xlsx", "d.csv", "e.toml"):
        lomrix("dictionary", "convert", "d.toml", "--out", name, cwd=tmp_path)
        assert read_dictionary(str(tmp_path / name)).scales == expected


def test_an_item_without_values_counts_as_missing() -> None:
    source = table(f1=[1, 2], f2=[1, 3])
    source = source.with_columns({**source.columns, "f3": Column.all_missing("string", 2, "not-in-file")})
    result = score(source, at_least=2)
    assert result.table["s"].cells() == [3, 7.5]
    assert result.account.facts["s"]["n"] == 2  # alpha is of the other items
    integers = table(f1=[1, 2], f2=[1, 3], f3=[1, None])
    assert score(integers, at_least=2).table["s"].cells() == [3, 7.5]


def test_who_has_no_item_at_all_misses_the_score_for_that_reason() -> None:
    items = {f"f{at}": Column.of_cells("integer", [None, 2 if at == 1 else None], "no-occasion") for at in (1, 2, 3)}
    made = score(Table(items), at_least=2).table
    assert reasons(made["s"]) == ["no-occasion", "too-few"]


def test_items_are_reversed_in_a_span_that_begins_above_zero() -> None:
    assert score(table(f1=[1, 2], f2=[5, 4], f3=[3, 3]), reverse="f2,f3", span="1:5").table["s"].cells() == [5, 7]
