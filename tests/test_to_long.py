"""To long: what stood beside each other stands below each other, and nothing is lost."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.labels import common_label
from lomrix.core.steps.to_long import ToLong
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import reasons, rows, table

TEMPLATE = "{measure}_m{month}"


def test_measures_constants_and_numeric_order() -> None:
    wide = table(crew=["a", "b"], x_m12=[1, 2], x_m3=[3, None], y_m3=[0.5, 1.5], vessel=["tern", "gull"])
    long = ToLong(headers=(TEMPLATE,), case=("crew",)).apply(wide).table
    assert long.names == ["crew", "month", "vessel", "x", "y"]
    assert rows(long) == [
        ("a", 3, "tern", 3, 0.5),
        ("a", 12, "tern", 1, None),
        ("b", 3, "gull", None, 1.5),
        ("b", 12, "gull", 2, None),
    ]
    assert reasons(long["y"]) == [None, "no-occasion", None, "no-occasion"]
    assert reasons(long["x"]) == [None, None, "blank", None]


def test_rows_without_a_measured_value_are_left_out_and_counted() -> None:
    wide = table(crew=["a", "b"], x_m0=[1, None], x_m3=[None, None])
    step = ToLong(headers=(TEMPLATE,), case=("crew",))
    result = step.apply(wide)
    assert rows(result.table) == [("a", 0, 1)]
    assert dict(result.account.balances[0].parts) == {
        "rows with a measured value": 1,
        "nothing measured at month 0, left out": 1,
        "nothing measured at month 3, left out": 2,
    }
    kept = step.model_copy(update={"keep_empty": True}).apply(wide).table
    assert rows(kept) == [("a", 0, 1), ("a", 3, None), ("b", 0, None), ("b", 3, None)]


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-5, 5)), min_size=3, max_size=3), min_size=1, max_size=8))
def test_every_measured_value_comes_out_once(cells: list[list[int | None]]) -> None:
    columns = {
        f"x_m{month}": Column.of_cells("integer", [row[at] for row in cells]) for at, month in enumerate((0, 3, 12))
    }
    wide = Table({"crew": Column.of_cells("integer", range(len(cells))), **columns})
    long = ToLong(headers=(TEMPLATE,), case=("crew",)).apply(wide).table
    expected = [
        (crew, month, row[at])
        for crew, row in enumerate(cells)
        for at, month in enumerate((0, 3, 12))
        if row[at] is not None
    ]
    assert rows(long) == expected


def test_texts_keep_their_words_over_several_pools() -> None:
    wide = table(crew=["a", "b"], mood_m0=["low", "high"], mood_m3=["high", None])
    long = ToLong(headers=(TEMPLATE,), case=("crew",), keep_empty=True).apply(wide).table
    assert long["mood"].cells() == ["low", "high", "high", None]


def test_the_occasion_is_the_longest_run_of_digits() -> None:
    wide = table(id=["a"], hours75=[1], hours81=[2], q12=[5])
    long = ToLong(headers=("{measure}{year}",), case=("id",)).apply(wide).table
    assert rows(long) == [("a", 12, None, 5), ("a", 75, 1, None), ("a", 81, 2, None)]


def test_a_measure_of_two_types_is_refused_by_name() -> None:
    wide = table(crew=["a"], x_m0=[1], x_m3=["seven h"])
    with pytest.raises(DataError) as caught:
        ToLong(headers=(TEMPLATE,), case=("crew",)).apply(wide)
    assert caught.value.where == "x_m0 is integer, x_m3 is string"


def test_asked_constants_and_what_is_left_out() -> None:
    wide = table(crew=["a"], x_m0=[1], ship=["tern"], port=["Auk Bay"])
    result = ToLong(headers=(TEMPLATE,), case=("crew",), constant="ship").apply(wide)
    assert result.table.names == ["crew", "month", "ship", "x"]
    assert result.account.facts["left_out_columns"] == ["port"]


def test_repeated_case_is_told() -> None:
    wide = table(crew=["a", "a", None], x_m0=[1, 2, 3])
    notes = {note.kind: note for note in ToLong(headers=(TEMPLATE,), case=("crew",)).apply(wide).account.notes}
    assert notes["repeated-case"].examples == ((2, "a"), (3, "a"))
    assert notes["missing-case"].count == 1


def test_labels_and_missing_codes_follow() -> None:
    entry = Variable(label="Sleep in 24 hours, month {month}", unit="min", missing={"-9": "refused"})
    wide = table(crew=["a"], sleep_m0=[1], sleep_m3=[2], dictionary=Dictionary({"sleep_m{month}": entry}))
    found = ToLong(headers=(TEMPLATE,), case=("crew",)).apply(wide).table.dictionary.of("sleep")
    assert (found.label, found.unit, found.missing) == ("Sleep in 24 hours", "min", {"-9": "refused"})


@pytest.mark.parametrize(
    ("labels", "label"),
    [
        (["Sleep, month 3", "Sleep, month 12"], "Sleep"),
        (["Mood at 3 months", "Mood at 12 months"], "Mood"),
        (["Month 3: sleep in 24 h", "Month 12: sleep in 24 h"], "sleep in 24 h"),
        (["Same", "Same"], "Same"),
        (["Pulse", "Rate"], "Pulse"),
        (["Sleep", ""], "Sleep"),
        (["", ""], ""),
    ],
)
def test_common_label(labels: list[str], label: str) -> None:
    assert common_label(labels) == label


@pytest.mark.parametrize(
    ("template", "name", "reading"),
    [
        (TEMPLATE, "sleep_m3", {"measure": "sleep", "month": "3"}),
        (TEMPLATE, "a_m_m3", {"measure": "a_m", "month": "3"}),
        (TEMPLATE, "age", None),
        ("{measure} (cabin {berth})", "noise (cabin 4)", {"measure": "noise", "berth": "4"}),
        ("{measure}_{arm}_{visit}", "hr_left_2", {"measure": "hr", "arm": "left", "visit": "2"}),
        ("{measure}{year}", "hours2075", {"measure": "hours", "year": "2075"}),
        ("{year}{measure}", "75hours", {"year": "75", "measure": "hours"}),
    ],
)
def test_header_templates(template: str, name: str, reading: dict[str, str] | None) -> None:
    found = HeaderTemplate.parsed(template)
    assert found.read(name) == reading
    if reading is not None:
        assert found.written(reading["measure"], reading) == name


def test_an_ambiguous_header_shows_both_readings() -> None:
    with pytest.raises(UsageError) as caught:
        HeaderTemplate.parsed("{measure}_{arm}_{visit}").read("a_b_c_d")
    assert "measure = a; arm = b; visit = c_d" in caught.value.where


@pytest.mark.parametrize(
    "template", ["sleep_m3", "{measure}", "{measure}_{}", "{measure}_m{month", "{measure}_{measure}"]
)
def test_broken_templates_are_refused(template: str) -> None:
    with pytest.raises(UsageError):
        HeaderTemplate.parsed(template)


def test_many_occasions() -> None:
    count = 2000
    columns = {f"x_d{day}": Column.of("integer", np.array([day, -day])) for day in range(count)}
    long = (
        ToLong(headers=("{measure}_d{day}",), case=("id",))
        .apply(Table({"id": Column.of_cells("string", ["a", "b"]), **columns}))
        .table
    )
    assert len(long) == 2 * count
    assert long["x"].cells()[count - 1 : count + 2] == [count - 1, 0, -1]
