"""To wide: a row per case, and nothing lost, guessed or averaged in silence."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import DataError, LomrixError, UsageError
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import parts_of, reasons, rows, sources, table

WIDE = ToWide(case=("crew",), occasion=("month",), header="{measure}_m{month}")


def with_(**changes: Any) -> ToWide:
    return WIDE.with_settings(**changes)


def notes(step: ToWide, source: Table) -> dict[str, Any]:
    return {note.kind: note for note in step.apply(sources(source)).account.notes}


def test_cases_occasions_and_what_was_never_there() -> None:
    long = table(crew=["b", "a", "b"], month=[12, 3, 3], vessel=["tern", "gull", "tern"], x=[1, 2, 3], y=[None, 5, 6])
    result = WIDE.apply(sources(long))
    assert result.table.names == ["crew", "vessel", "x_m3", "x_m12", "y_m3", "y_m12"]
    assert rows(result.table) == [("b", "tern", 3, 1, 6, None), ("a", "gull", 2, None, 5, None)]
    assert reasons(result.table["x_m12"]) == [None, "no-occasion"]
    assert reasons(result.table["y_m12"]) == ["blank", "no-occasion"]
    assert [parts_of(balance) for balance in result.account.balances] == [
        {"one for each case and occasion": 3},
        {"with a row": 3, "without a row at month 12": 1},
        {"x": 3, "y": 2},
    ]
    assert result.account.facts["cannot_come_back"] == ["the order of the rows"]


@pytest.mark.parametrize(
    ("changes", "names"),
    [
        ({"order": "occasion"}, ["crew", "x_m3", "y_m3", "x_m12", "y_m12"]),
        ({"order": "measure"}, ["crew", "x_m3", "x_m12", "y_m3", "y_m12"]),
        ({"header": "{measure}_m{month:02}"}, ["crew", "x_m03", "x_m12", "y_m03", "y_m12"]),
        ({"header": "{month}{measure}"}, ["crew", "3x", "12x", "3y", "12y"]),
    ],
)
def test_names_and_their_order(changes: dict[str, Any], names: list[str]) -> None:
    long = table(crew=["a", "a"], month=[3, 12], x=[1, 2], y=[3, 4])
    assert with_(**changes).apply(sources(long)).table.names == names


def test_several_occasion_columns() -> None:
    long = table(crew=["a", "a", "a"], arm=["left", "right", "left"], visit=[1, 1, 2], x=[1, 2, 3])
    step = ToWide(case=("crew",), occasion=("arm", "visit"), header="{measure}_{arm}_{visit}")
    assert step.apply(sources(long)).table.names == ["crew", "x_left_1", "x_left_2", "x_right_1"]
    assert rows(step.apply(sources(long)).table) == [("a", 1, 3, 2)]


@pytest.mark.parametrize(
    ("words", "codes", "order"),
    [
        (["before", "after"], {}, ["before", "after"]),
        (["visit 12", "visit 3"], {}, ["visit 3", "visit 12"]),
        (["end", "begin"], {"begin": "Begin", "end": "End"}, ["begin", "end"]),
    ],
)
def test_occasions_that_are_words(words: list[str], codes: dict[str, str], order: list[str]) -> None:
    dictionary = Dictionary({"month": Variable(codes="when")}, {"when": codes}) if codes else Dictionary()
    long = table(crew=["a", "a"], month=words, x=[1, 2], dictionary=dictionary)
    assert WIDE.apply(sources(long)).table.names == ["crew", *(f"x_m{word}" for word in order)]


def slipped(count: int = 40) -> Table:
    """Each case at months 0 and 6; in case c7 the vessel slips, in c9 it is missing once."""
    crew = [f"c{case}" for case in range(count) for _ in range(2)]
    vessel: list[str | None] = ["tern"] * (2 * count)
    vessel[15], vessel[19] = "gull", None
    x = [None if at == 2 else at for at in range(2 * count)]
    return table(crew=crew, month=[0, 6] * count, vessel=vessel, x=x)


def test_a_column_that_changes_in_few_cases_is_named_with_them() -> None:
    result = WIDE.apply(sources(slipped()))
    assert result.account.facts["spread"] == ["vessel", "x"]
    assert result.account.facts["changing_in_few_cases"] == ["vessel"]
    (note,) = [note for note in result.account.notes if note.kind == "slip"]
    assert note.column == "vessel"
    assert "varies in 1 case only" in note.text
    assert "c7 (tern, gull)" in note.text


def test_a_stated_constant_that_changes_stops_with_its_cases() -> None:
    with pytest.raises(DataError) as caught:
        with_(constant="vessel").apply(sources(slipped()))
    assert caught.value.where == "c7 (tern, gull)"


@pytest.mark.parametrize(
    ("choice", "vessels"),
    [("first", ["gull", "tern"]), ("last", ["tern", "tern"]), ("commonest", ["gull", "tern"])],
)
def test_one_value_of_a_constant_that_changes(choice: str, vessels: list[str]) -> None:
    long = table(
        crew=["a", "b", "a", "b", "a", "b"],
        month=[0, 0, 3, 3, 6, 6],
        vessel=["gull", None, "gull", "tern", "tern", None],
        x=[1, 2, 3, 4, 5, 6],
    )
    step = with_(constant="vessel", if_changing=choice)
    assert step.apply(sources(long)).table["vessel"].cells() == vessels
    assert "2 missing cells took the value of the case" in notes(step, long)["constant-chosen"].text


def test_missing_cells_do_not_speak_against_a_constant_of_the_dictionary() -> None:
    known = Dictionary({"sex": Variable(level="case")})
    long = table(crew=["a", "a", "b"], month=[0, 6, 0], sex=[1, None, 2], x=[1, 2, 3], dictionary=known)
    assert WIDE.apply(sources(long)).table["sex"].cells() == [1, 2]
    unknown = table(crew=["a", "a", "b"], month=[0, 6, 0], sex=[1, None, 2], x=[1, 2, 3])
    assert WIDE.apply(sources(unknown)).table.names == ["crew", "sex_m0", "sex_m6", "x_m0", "x_m6"]
    assert notes(WIDE, unknown)["only-missing"].count == 1


def test_repeated_rows_stop_with_their_rows() -> None:
    with pytest.raises(DataError) as caught:
        WIDE.apply(sources(table(crew=["a", "b", "a"], month=[0, 0, 0], x=[1, 2, 3])))
    assert caught.value.where == "a 0 (rows 2, 4)"


REPEATED: dict[str, Any] = {"crew": ["a", "b", "a", "a"], "month": [0, 0, 0, 0]}


@pytest.mark.parametrize(
    ("how", "x", "mood"),
    [
        ("first", [4, 7], [None, "low"]),
        ("last", [1, 7], ["high", "low"]),
        ("mean", [2.0, 7.0], ["good", "low"]),
        ("median", [1.0, 7.0], ["good", "low"]),
        ("min", [1, 7], ["good", "low"]),
        ("max", [4, 7], ["good", "low"]),
        ("sum", [6, 7], ["good", "low"]),
    ],
)
def test_repeated_rows_reduced(how: str, x: list[Any], mood: list[Any]) -> None:
    long = table(**REPEATED, x=[4, 7, 1, 1], mood=[None, "low", "good", "high"])
    step = with_(repeated=how, spread="x,mood")
    result = step.apply(sources(long))
    assert rows(result.table) == list(zip(["a", "b"], x, mood, strict=True))
    assert parts_of(result.account.balances[0])[f"reduced to their {how}"] == 2
    if how not in ("first", "last"):
        assert notes(step, long)["first-taken"].count == 1


def test_codes_with_labels_are_not_averaged() -> None:
    known = Dictionary({"x": Variable(codes="agree")}, {"agree": {"0": "no", "3": "yes"}})
    long = table(**REPEATED, x=[3, 0, 0, None], dictionary=known)
    assert with_(repeated="mean", spread="x").apply(sources(long)).table["x_m0"].cells() == [3, 0]


def test_a_mean_of_nothing_keeps_its_reason() -> None:
    long = table(**REPEATED, x=[None, 7, None, None])
    made = with_(repeated="mean", spread="x").apply(sources(long)).table["x_m0"]
    assert (made.cells(), reasons(made)) == ([None, 7.0], ["blank", None])


def test_both_stated_leaves_the_others_out() -> None:
    long = table(crew=["a", "a"], month=[0, 6], x=[1, 2], y=[3, 4], ship=["tern", "tern"], port=["Auk", "Auk"])
    result = with_(spread="x", constant="ship").apply(sources(long))
    assert result.table.names == ["crew", "ship", "x_m0", "x_m6"]
    assert result.account.facts["left_out_columns"] == ["y", "port"]


def test_columns_that_no_case_has_are_not_made() -> None:
    why = np.array([0, 1], np.uint8)
    mood = Column.of("integer", np.array([5, 0]), why, ("no-occasion",))
    long = Table({**table(crew=["a", "a"], month=[0, 6], x=[1, 2]).columns, "mood": mood})
    assert WIDE.apply(sources(long)).table.names == ["crew", "x_m0", "x_m6", "mood_m0"]
    assert notes(WIDE, long)["never-made"].text.endswith("mood_m6.")


def test_labels_are_made_of_label_and_occasion() -> None:
    known = Dictionary(
        {"x": Variable(label="Sleep minutes", unit="min"), "month": Variable(codes="when")},
        {"when": {"6": "after the season"}},
    )
    made = WIDE.apply(
        sources(table(crew=["a", "a"], month=[3, 6], x=[1, 2], y=[3, 4], dictionary=known))
    ).table.dictionary
    assert made.of("x_m3").label == "Sleep minutes, month 3"
    assert made.of("x_m6").label == "Sleep minutes, after the season"
    assert made.of("x_m6").unit == "min"
    assert made.of("y_m3").label == ""


def test_what_the_team_wrote_of_the_wide_columns_goes_first() -> None:
    known = Dictionary({"x": Variable(label="Sleep"), "x_m{month}": Variable(label="Sleep of month {month}")})
    made = WIDE.apply(sources(table(crew=["a", "a"], month=[3, 6], x=[1, 2], dictionary=known))).table.dictionary
    assert made.of("x_m6").label == "Sleep of month 6"


SERIES: dict[str, Any] = {"port": ["A", "A", "B", "B"], "series": ["PAX", "CAR", "PAX", "CAR"], "value": [1, 2, 3, 4]}


def test_labels_from_a_column() -> None:
    long = table(**SERIES, words=["Passengers", "Cars", "Passengers", "Cars"])
    step = ToWide(case=("port",), occasion=("series",), header="{series}", label_from="words")
    made = step.apply(sources(long))
    assert rows(made.table) == [("A", 1, 2), ("B", 3, 4)]
    assert [made.table.dictionary.of(name).label for name in ("PAX", "CAR")] == ["Passengers", "Cars"]
    assert made.account.facts["cannot_come_back"] == ["the column words, whose texts are labels now"]
    with pytest.raises(DataError) as caught:
        step.apply(sources(table(**SERIES, words=["Passengers", "Cars", "Travellers", "Cars"])))
    assert caught.value.where == 'series PAX: "Passengers" and "Travellers"'


@pytest.mark.parametrize(
    ("changes", "cells", "kind", "expected"),
    [
        ({"header": "v{month}"}, {}, UsageError, "no {measure}"),
        ({"header": "{measure}_{year}"}, {}, UsageError, "does not name the occasion month"),
        ({"header": ""}, {}, UsageError, "No ‹header›"),
        ({"case": ()}, {}, UsageError, "No ‹case›"),
        ({"occasion": ()}, {}, UsageError, "No ‹occasion›"),
        ({"occasion": ("crew",)}, {}, UsageError, "both case and occasion"),
        ({"most_columns": 4}, {}, DataError, "would have 5 columns"),
        ({"spread": "x", "constant": "x"}, {}, UsageError, "both spread and constant"),
        ({"spread": "x"}, {}, DataError, "y is not a constant"),
        ({"header": "crew"}, {}, UsageError, "does not name"),
        ({}, {"crew": ["a", None]}, DataError, "crew is missing in 1 row"),
        ({}, {"month": [None, 6]}, DataError, "month is missing in 1 row"),
        ({}, {"x_m0": [9, 9]}, DataError, "Two columns would be named x_m0"),
        ({"case": ("crew", "month"), "occasion": ("x",), "header": "{x}"}, {}, DataError, "nothing to spread"),
    ],
)
def test_refusals(changes: dict[str, Any], cells: dict[str, Any], kind: type[LomrixError], expected: str) -> None:
    long = table(**{"crew": ["a", "a"], "month": [0, 6], "x": [1, 2], "y": [3, 4], **cells})
    with pytest.raises(kind) as caught:
        with_(**changes).apply(sources(long))
    assert expected in caught.value.what
    assert caught.value.todo


def test_no_rows_give_no_columns() -> None:
    empty = Table({name: Column.of_cells("integer", []) for name in ("crew", "month", "x")})
    made = with_(spread="x").apply(sources(empty))
    assert made.table.names == ["crew"]
    assert made.account.facts["cannot_come_back"] == ["the measure x, without any occasion"]
    assert WIDE.apply(sources(empty)).account.notes == ()
