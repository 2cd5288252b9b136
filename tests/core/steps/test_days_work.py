"""What a data manager does in a week: adjusted comparison, retention, conditions, dictionaries and pairs."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.derive.settings import Derive
from lomrix.core.steps.dictionary.changes import Change, compare_dictionaries
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.core.arrays.test_regression import HUITEMA
from tests.tables import parts_of, rows, sources, table

# ------------------------------------------------------------------- adjusted comparison

ARMS = table(
    "arms", arm=[*"a" * 10, *"b" * 10, *"c" * 10], pre=HUITEMA[0].tolist(), post=HUITEMA[1].tolist(),
    twice=(2 * HUITEMA[0]).tolist(), sex=["f", "m"] * 15,
)  # fmt: skip


def test_groups_are_adjusted_as_published() -> None:
    result = Compare(measure="post", between="arm", adjust="pre").apply(sources(ARMS))
    differences = result.table["difference"].cells()
    assert [differences[0], differences[1]] == pytest.approx([11.8526, 7.7116], abs=1e-4)
    assert (round(result.table["statistic"].cells()[2], 2), result.table["df"].cells()[2]) == (5.48, 2)
    means, slopes = result.account.listings[:2]
    assert [row[3] for row in means.rows] == ["28.48", "40.33", "36.19"]
    assert slopes.rows[0][:2] == ("pre", "0.5705")


def test_covariates_that_tell_the_same_or_whose_slopes_differ_are_noted() -> None:
    result = Compare(measure="post", between="arm", adjust="pre,twice,sex").apply(sources(ARMS))
    assert [note.kind for note in result.account.notes] == ["collinear", "unadjusted"]
    assert [row[0] for row in result.account.listings[1].rows] == ["pre", "twice", "sex m"]
    steep = table("t", g=["a", "b"] * 10, pre=list(range(20)),
                  post=[row * (1 + row % 2) + 0.1 * (row % 3) for row in range(20)])  # fmt: skip
    notes = Compare(measure="post", between="g", adjust="pre").apply(sources(steep)).account.notes
    assert [note.kind for note in notes] == ["slopes-differ"]
    same = Compare(measure="post", between="arm", adjust="group").apply(
        sources(ARMS.with_columns({**ARMS.columns, "group": ARMS["arm"]}))
    )
    assert same.table["difference"].missing_count != 0 and "collinear" in [note.kind for note in same.account.notes]


def test_rows_without_a_covariate_are_counted_by_reason() -> None:
    some = table("t", g=["a", "a", "a", "b", "b", "b", None], y=[1, 2, 4, 3, 5, None, 1], x=[1, 2, 3, None, 2, 3, 1])
    result = Compare(measure="y", between="g", adjust="x").apply(sources(some))
    assert parts_of(result.account.balances[0]) == {
        "compared": 4, "g missing (blank)": 1, "y missing (blank)": 1, "x missing (blank)": 1
    }  # fmt: skip
    empty = Compare(measure="y", between="g", adjust="x").apply(sources(some.take(np.array([3, 5, 6, 0]))))
    assert empty.table["difference"].missing_count == 1
    for wrong in ({"adjust": "g"}, {"adjust": "y"}, {"measure": "g"}):
        with pytest.raises(UsageError):
            Compare(**{"measure": "y", "between": "g", "adjust": "x", **wrong}).apply(sources(some))
    for wrong in ({"paired_on": "id"}, {"against": "x"}, {"between": "", "against": "z"}):
        with pytest.raises(UsageError):
            Compare(**{"measure": "y", "between": "g", "adjust": "x", **wrong})


# ------------------------------------------------------------------------ retention

SEX = Dictionary({"sex": Variable(codes="s")}, {"s": {"1": "women", "2": "men"}})
SEEN = table("seen", SEX, id=list("aaabbbccdde"), wave=[1, 2, 3, 1, 2, 3, 1, 3, 1, 2, 2],
             sex=[1, 1, 1, 1, None, 1, 2, 2, 2, 2, None])  # fmt: skip
LONG: dict[str, Any] = {"case": "id", "occasion": "wave"}


def test_retention_by_group() -> None:
    result = Coverage(**LONG, by="sex").apply(sources(SEEN))
    assert [row[1:] for row in rows(result.table)] == [
        (1, 2, 100.0, 0), (2, 2, 100.0, 0), (3, 2, 100.0, None),
        (1, 2, 100.0, 0), (2, 1, 50.0, 1), (3, 1, 50.0, None),
        (1, 0, None, 0), (2, 1, None, 1), (3, 0, None, None),
    ]  # fmt: skip
    assert [row[0] for row in result.account.listings[0].rows if row[0]] == ["women", "men", "blank"]
    assert len(Coverage(**LONG, by="sex", min_n=2).apply(sources(SEEN.take(np.zeros(0, np.int64)))).table) == 0
    with pytest.raises(DataError, match="sex is not a constant"):
        Coverage(**LONG, by="sex").apply(sources(table(id=["a", "a"], wave=[1, 2], sex=[1, 2])))
    with pytest.raises(UsageError):
        Coverage(**LONG, min_n=3)


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(1, 3), st.sets(st.integers(0, 2), min_size=1)), min_size=2, max_size=14))
def test_no_hidden_number_of_retention_can_be_computed(cases: list[tuple[int, set[int]]]) -> None:
    visits = [(f"p{at}", wave, group) for at, (group, waves) in enumerate(cases) for wave in sorted(waves)]
    long = table("t", id=[row[0] for row in visits], wave=[row[1] for row in visits], sex=[row[2] for row in visits])
    made = Coverage(**LONG, by="sex", min_n=3).apply(sources(long)).table
    groups = len({group for group, _ in cases})
    shown = {name: np.array([np.nan if cell is None else cell for cell in made[name].cells()]).reshape(groups, -1)
             for name in ("seen", "left_for_good")}  # fmt: skip
    for name, cells in shown.items():
        assert not ((cells > 0) & (cells < 3)).any()
        hidden = np.isnan(cells)
        if name == "left_for_good":  # at the last occasion those who were seen
            hidden[:, -1] = np.isnan(shown["seen"][:, -1])
            cells = np.where(np.arange(cells.shape[1]) == cells.shape[1] - 1, shown["seen"], cells)
        places = np.argwhere(hidden)
        # The total of an occasion is known unless all of it is hidden, so is the size of a group that is not small.
        waves = [wave for wave in range(cells.shape[1]) if np.nansum(cells[:, wave]) > 0]
        sizes = {group: sum(1 for other, _ in cases if other == number)
                 for group, number in enumerate(sorted({number for number, _ in cases}))}  # fmt: skip
        equations = [[place[1] == wave for place in places] for wave in waves]
        if name == "left_for_good":
            equations += [[place[0] == group for place in places] for group, size in sizes.items() if size > 2]
        matrix = np.array(equations, np.float64).reshape(len(equations), len(places))
        rank = np.linalg.matrix_rank(matrix) if matrix.size else 0
        for at, place in enumerate(places.tolist()):
            determined = np.linalg.matrix_rank(np.vstack([matrix, np.eye(len(places))[at]])) == rank
            assert not determined or cells.shape[1] < 2, (name, place)


# ----------------------------------------------------------------------- small words


def test_number_and_share_of_rows_with_a_condition() -> None:
    source = table("t", g=[1, 1, 1, 2, 2], x=[15, 16, None, 20, 10], watch=["day", "night", "day", "day", "day"])
    step = Aggregate(by="g", stat=["x: n share(x >= 16)", "n(x < 16)", "late = share(watch != 'day' or (x > 19))"])
    assert step.columns_needed("source", ["g", "x", "watch", "z"]) == ["x", "watch", "g"]
    made = step.apply(sources(source)).table
    assert made.names == ["g", "x_n", "x_share_from_16", "x_n_below_16", "late"]
    assert rows(made) == [(1, 2, 0.5, 1, 0.5), (2, 2, 0.5, 1, 0.5)]
    assert made.dictionary.of("x_share_from_16").label == "share with x >= 16"
    attached = Aggregate(by="g", stat="share(x >= 16)", attach=True).apply(sources(source)).table
    assert attached.names == ["g", "x", "watch", "x_share_from_16"]
    hidden = Aggregate(by="g", stat="n(x >= 16)", min_n=3).apply(sources(source)).table
    assert hidden["x_n_from_16"].missing_count == 2
    for stat in ("share(x >= )", "share(y > 3)", "n(x > 'a')"):
        with pytest.raises(UsageError):
            Aggregate(by="g", stat=stat).apply(sources(source))


@pytest.mark.parametrize("lone", [1, 0])
def test_few_for_whom_a_condition_is_true_or_false_are_suppressed(lone: int) -> None:
    # Six persons on each ship; on the first one of them differs from the others, elsewhere three.
    sick = [lone, *[1 - lone] * 5, *[0, 0, 0, 1, 1, 1] * 2]
    source = table("t", ship=[row // 6 for row in range(18)], sick=sick)
    result = Aggregate(by="ship", stat=["n(sick == 1)", "share(sick == 1)"], min_n=3).apply(sources(source))
    # A second one is hidden too, since the number of all could tell the first.
    assert result.table["sick_n_is_1"].cells() == [None, None, 3]
    assert result.table["sick_share_is_1"].cells() == [None, None, 0.5]
    (note,) = [note for note in result.account.notes if note.kind == "suppressed" and note.done]
    assert note.text == (
        "1 group has fewer than 3 rows for which it is true, or false; 1 more is suppressed to protect them."
    )


def test_bands_with_labels_and_sums_that_begin_again() -> None:
    source = table("t", id=[*"aaaa", "b"], wave=[1, 2, 5, 6, 3], x=[1, 2, 3, 4, 5])
    step = Derive(expressions=('b = bands(x, 2, 4, labels=("low", "mid", "high"))', "s = running_sum(x, within=1)",
                               "all = running_sum(x)"), **LONG)  # fmt: skip
    result = step.apply(sources(source))
    assert [row[3:] for row in rows(result.table)] == [(1, 1, 1), (2, 3, 3), (2, 3, 6), (3, 7, 10), (3, 5, 5)]
    assert dict(result.table.dictionary.labels_of("b")) == {"1": "low", "2": "mid", "3": "high"}
    assert "missed-occasion" in [note.kind for note in result.account.notes]
    for wrong in ('bands(x, 2, labels=("low",))', "bands(x, 2, labels=(1, 2))", 'split_part("a", "", 1)'):
        with pytest.raises(UsageError):
            Derive(expressions=(f"b = {wrong}",)).apply(sources(source))


# ----------------------------------------------------------------- reshape's hard names


def test_columns_that_fit_a_family_but_not_its_template_are_named() -> None:
    wide = table(id=[1], sleep_m0=[2], sleep_m3=[3], sleep_6=[4], Sleep_M12=[5], sleep_quality=[6], f1_m0=[7], f12=[8])
    (note,) = [note for note in ToLong(header="{measure}_m{month}", case="id").apply(sources(wide)).account.notes
               if note.kind == "near-miss"]  # fmt: skip
    assert note.text.endswith(": sleep_6, Sleep_M12.")
    cells: dict[str, Any] = {"2009 (Y2009)": [2], "2010 (Y2011)": [3]}
    years = table(id=[1], **cells)
    result = ToLong(header="{year} (Y{year})", value_name="pax", case="id").apply(sources(years))
    assert [note.count for note in result.account.notes if note.kind == "near-miss"] == [1]


# ------------------------------------------------------------------- dictionaries and pairs


def test_what_differs_between_dictionaries() -> None:
    old = Dictionary({"x": Variable(label="X", maximum=9, missing={"-9": "refused"}), "gone": Variable()},
                     {"c": {"1": "yes", "2": "no"}}, {"r": "x > 0"})  # fmt: skip
    new = Dictionary(
        {"x": Variable(label="X", maximum=10), "new": Variable(label="New")}, {"c": {"1": "yes", "2": "never"}}
    )
    assert compare_dictionaries(old, new) == [
        Change("variable", "x", "maximum", "9", "10"), Change("variable", "x", "missing code -9", "refused", ""),
        Change("variable", "gone", "", "there", ""), Change("variable", "new", "", "", "there"),
        Change("codes", "c", "code 2", "no", "never"), Change("rule", "r", "", "x > 0", ""),
    ]  # fmt: skip
    assert not compare_dictionaries(old, old)


def test_columns_that_are_alike_become_a_pair_file() -> None:
    labelled = Dictionary({"q3": Variable(label="Hours of sleep"), "v7": Variable(label="Sleep, hours of")})
    first = table("w1", labelled, id=[1, 2], Mood=[1, 2], q3=[7, 8], ship=["tern", "gull"], zone=["n", "s"])
    second = table("w2", labelled, id=[1, 2], mood=[2, 1], v7=[7, 9], vessel=["tern", "gull"], other=[5.5, 6])
    result = Stack().apply(sources(first, second), ["draft_pairs"])
    assert {row[:2] for row in rows(result.extras["draft_pairs"])} == {("mood", "Mood"), ("v7", "q3")}
    paired = Stack().apply(Inputs(source=(first, second), pair_file=result.extras["draft_pairs"])).table
    assert paired["q3"].cells() == [7, 8, 7, 9] and "mood" not in paired.names
    third = table("w3", where=["a", "b", "c"]), table("w4", place=["c", "b", "a"])
    assert rows(Stack().apply(sources(*third), ["draft_pairs"]).extras["draft_pairs"]) == [
        ("place", "where", "w4 and w3 are alike in values")
    ]


def test_one_label_under_two_codes_is_refused() -> None:
    known = [Dictionary({"x": Variable(codes="c")}, {"c": {"1": "yes", no: "no"}}) for no in ("2", "0")]
    files = [table(f"f{at}", dictionary, x=[1]) for at, dictionary in enumerate(known)]
    with pytest.raises(DataError, match="One label has different codes") as stopped:
        Stack().apply(sources(*files))
    assert stopped.value.where == 'x "no": 2 before, 0 in f1'
    assert len(Stack(other_labels="first").apply(sources(*files)).table) == 2
