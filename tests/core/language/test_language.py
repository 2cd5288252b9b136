"""The expression language: values by hand, missing in and missing out, and nothing executed."""

from __future__ import annotations

import datetime
import itertools
import re
from collections.abc import Sequence
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import evaluate, evaluate_condition
from lomrix.core.language.parse import find_names, parse
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import reasons, table

DAYS = [datetime.date(2024, 1, 31), datetime.date(2024, 3, 1), None]
TABLE = table(a=[1, 2, None], b=[2.5, None, 0.0], s=["x", "y", None])
TABLE = Table(
    {
        **TABLE.columns,
        "d": Column.of_cells("date", DAYS),
        "r": Column.of_cells("integer", [None, 1, 2], "refused"),
        "m": Column.of_cells(
            "datetime", [datetime.datetime(2024, 3, 5, 14, 7), None, datetime.datetime(2024, 3, 1, 9)]
        ),
        "t": Column.of_cells("string", ["x", "z", "a"]),
        "g": Column.of_cells("integer", [5, 5, 5]),
    }
)

CASES: list[tuple[str, list[Any]]] = [
    ("a + 1", [2, 3, None]),
    ("a / 2", [0.5, 1.0, None]),
    ("a / b", [0.4, None, None]),
    ("7 // 2 + 7 % 4", [6, 6, 6]),
    ("-a ** 2", [-1.0, -4.0, None]),
    ("a > 1 or b > 2", [True, True, None]),
    ("a > 1 and b > 2", [False, None, False]),
    ("not a > 1", [True, False, None]),
    ("1 < a <= 2", [False, True, None]),
    ("s == 'x'", [True, False, None]),
    ("s != 'nowhere'", [True, True, None]),
    ("'y' > s", [True, False, None]),
    ("s in ('x', 'z') or is_missing(s)", [True, False, True]),
    ("a not in (1, 3)", [False, True, None]),
    ("a if s == 'x' else 9", [1, 9, None]),
    ("first_present(a, r)", [1, 2, 2]),
    ("max(a, b)", [2.5, None, None]),
    ("abs(-3) + round(2.5) + floor(2.9)", [7, 7, 7]),
    ("d > '2024-02-01'", [False, True, None]),
    ("d + 1 - d", [1, 1, None]),
    ("year(d) * 10000 + month(d) * 100 + day(d)", [20240131, 20240301, None]),
    ("length(s) == 1 and begins(s, 'x')", [True, False, None]),
    ("upper(s)", ["X", "Y", None]),
    ("row_number()", [1, 2, 3]),
    ("column('a') * 2", [2, 4, None]),
    ("9223372036854775807 - a", [2**63 - 2, 2**63 - 3, None]),
    ("d - 31", [datetime.date(2023, 12, 31), datetime.date(2024, 1, 30), None]),
    ("d + a", [datetime.date(2024, 2, 1), datetime.date(2024, 3, 3), None]),
    ("d + a * 4000000", [None, None, None]),
    ("d - 9223372036854775807", [None, None, None]),
    ("m - 1", [datetime.datetime(2024, 3, 4, 14, 7), None, datetime.datetime(2024, 2, 29, 9, 0)]),
    ("m > d", [True, None, None]),
    ("m == '2024-03-05T14:07:00'", [True, None, False]),
    ("m - d", [34.588194444444444, None, None]),
    ("True", [True, True, True]),
    ("s < t", [False, True, None]),
    ("s == t", [True, False, None]),
    ("s >= t", [True, False, None]),
    ("g // (a - 1)", [None, 5, None]),
]


@pytest.mark.parametrize(("text", "cells"), CASES)
def test_values(text: str, cells: list[Any]) -> None:
    assert evaluate(text, TABLE).cells() == cells


def test_the_first_missing_operand_gives_the_reason() -> None:
    assert reasons(evaluate("r + a", TABLE)) == ["refused", None, "blank"]
    assert reasons(evaluate("a / b", TABLE)) == [None, "blank", "blank"]
    assert reasons(evaluate("a / 0", TABLE)) == ["undefined", "undefined", "blank"]
    assert evaluate("reason(r)", TABLE).cells() == ["refused", None, None]


@given(st.lists(st.tuples(*[st.one_of(st.none(), st.integers(-50, 50))] * 2), min_size=1))
def test_arithmetic_is_that_of_whole_numbers(pairs: list[tuple[int | None, int | None]]) -> None:
    source = Table({name: Column.of_cells("integer", [pair[at] for pair in pairs]) for at, name in enumerate("xy")})
    for text in ("x + y", "x - y", "x * y", "x // y", "x % y"):
        expected = []
        for x, y in pairs:
            undefined = x is None or y is None or (y == 0 and text[2] in "/%")
            expected.append(None if undefined else eval(text, {"x": x, "y": y}))
        assert evaluate(text, source).cells() == expected


@pytest.mark.parametrize(
    "text",
    [
        "__import__('os')", "a.real", "a[0]", "lambda: 1", "[x for x in a]", "a = 1", "a +", "f'{a}'", "None", "a @ b",
        "nothing + 1", "a + s", "s > 1", "a and 1", "not a", "foo(a)", "abs()", "abs(a, b)", "a in b", "(1, 2)",
        "year(a)", "d == 'soon'", "1e999999999999999999999 if a", "abs(x=1)", "b'x'",
    ],
)  # fmt: skip
def test_what_does_not_belong_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        evaluate(text, TABLE)


@pytest.mark.parametrize(
    ("text", "what", "pointer"),
    [
        ("a +", "it ends too early", 3),
        ("(a", "'(' was never closed", 0),
        ("a + s", "Arithmetic needs numbers, but an operand is string", 4),
        ("'é' == s and a.real > 1", "uses a construct that is not supported", 13),
        ("1 + sqr(a)", "Unknown function sqr()", 4),
        ("1 + nothing", "No column nothing", 4),
        ("a > 1 and b", "need conditions, but an operand is number", 10),
        ('mean_of("a, zz")', "No column zz", 8),
    ],
)
def test_an_error_points_at_its_place(text: str, what: str, pointer: int) -> None:
    with pytest.raises(UsageError, match=re.escape(what)) as caught:
        evaluate(text, TABLE)
    assert (caught.value.where, caught.value.pointer) == (text, pointer)


@pytest.mark.parametrize(
    ("text", "what", "todo"),
    [
        ("d + d", "Dates can be subtracted from dates", ""),
        ("s + s", "Texts cannot be added", "joined(a, b"),
        ("(1, 2)", "A list cannot be used here", "month in (0, 3)"),
        ("a in b", "`in` needs a list of values", "month in (0, 3, 6, 12)"),
        ("99999999999999999999", "64 bits do not hold it", "decimal point"),
        ("column(a)", "column() needs a name in quotation marks", "column('name with spaces')"),
        ("sqr(a)", "Unknown function sqr()", "sqrt()"),
        ("s > 1", "Values of type string cannot be compared with values of type integer", "quotation marks"),
        ("change(a)", "change() depends on the occasions of a case", "‹case=COLUMN› and ‹occasion=COLUMN›"),
        ("case_mean(a)", "case_mean() uses all rows of a case", "‹case=COLUMN›"),
        ("1 + " * 9000 + "1", "The expression is too long", "several steps"),
        ("-" * 300 + "1", "operations inside each other", "several steps"),
    ],
)
def test_an_error_reports_what_to_do(text: str, what: str, todo: str) -> None:
    with pytest.raises(UsageError) as caught:
        evaluate(text, TABLE)
    assert what in caught.value.what
    assert todo in caught.value.todo


def test_a_condition_is_true_or_false() -> None:
    with pytest.raises(UsageError, match="not true or false") as caught:
        evaluate_condition("a + 1", TABLE)
    assert caught.value.todo == "Compare it: age >= 16"


def test_what_was_found_of_cases_is_found_again_where_the_case_changed() -> None:
    first = table(id=["a", "a", "b"], x=[1, 2, 6])
    scope = Scope(first, ("id",))
    assert evaluate("case_mean(x)", scope).cells() == [1.5, 1.5, 6.0]
    scope.set_table(first.with_columns({**first.columns, "id": table(id=["a", "b", "b"])["id"]}))
    assert evaluate("case_mean(x)", scope).cells() == [1.0, 4.0, 4.0]


def test_names_used() -> None:
    assert find_names(parse("max(a, b) > column('c d') and a")) == ["a", "b", "c d"]


def test_places_of_rounding_may_differ_from_row_to_row() -> None:
    made = evaluate("round(x, p)", table(x=[1.25, 123.0, 2.5], p=[1, -1, 0]))
    assert made.cells() == [1.2, 120.0, 2.0]
    assert evaluate("round(x)", table(x=[1e20, -1e20, 2.5])).cells() == [None, None, 2]
    assert evaluate("max(x, y)", table(x=[2**60 + 1], y=[2**60])).cells() == [2**60 + 1]


def test_a_column_without_values_fits_whatever_is_asked() -> None:
    source = table(id=[1, 2], age=[None, None])
    assert evaluate("age > 3", source).cells() == [None, None]
    assert evaluate("age + 1", source).cells() == [None, None]
    assert evaluate("age and id > 1", source).cells() == [False, None]
    assert len(evaluate("age > 3 and len == 'x'", table(age=[], len=[]))) == 0


@pytest.mark.parametrize(("text", "todo"), [("sex == f", "written 'f'"), ("ward == north", "labels 1 of ward")])
def test_a_word_that_is_a_value_wants_quotation_marks(text: str, todo: str) -> None:
    known = Dictionary({"ward": Variable(codes="ward")}, {"ward": {"1": "north"}})
    with pytest.raises(UsageError) as stopped:
        evaluate(text, table(sex=["m", "f"], ward=[1, 2], dictionary=known))
    assert todo in stopped.value.todo


# Strong logic of three values, None being missing: what decides does so whatever the others are.


def kleene(parts: Sequence[bool | None], decisive: bool) -> bool | None:
    return decisive if decisive in parts else None if None in parts else not decisive


def test_conditions_have_three_values() -> None:
    for one, two, three in itertools.product((0, 1, 2, None), repeat=3):
        source = table(a=[one, 7], b=[two, 7], c=[three, 7])

        def less(x: int | None, y: int | None) -> bool | None:
            return None if x is None or y is None else x < y

        def same(x: int | None, y: int | None) -> bool | None:
            return None if x is None or y is None else x == y

        found = {words: evaluate(words, source).cells()[0] for words in (
            "a < b < c", "a < b and b < c", "a < b or b < c", "a in (b, c)", "a not in (b, c)", "not a < b",
        )}  # fmt: skip
        pair = (less(one, two), less(two, three))
        inside = kleene((same(one, two), same(one, three)), True)
        assert found == {
            "a < b < c": kleene(pair, False), "a < b and b < c": kleene(pair, False),
            "a < b or b < c": kleene(pair, True),
            "a in (b, c)": inside, "a not in (b, c)": None if inside is None else not inside,
            "not a < b": None if pair[0] is None else not pair[0],
        }, (one, two, three)  # fmt: skip


def test_missed_occasions_are_reported_or_left_out() -> None:
    source = table(id=[1, 1, 1, 2, 2], w=[1, 3, 4, 1, 2], x=[5, 9, None, 1, 2])
    scope = Scope(source, ("id",), ("w",))
    assert evaluate("change(x)", scope).cells() == [None, 4, None, None, 1]
    assert [(note.count, note.examples) for note in scope.reports] == [(1, ((3, None),))]
    scope.reports.clear()
    assert evaluate("change(x, within=1)", scope).cells() == [None, None, None, None, 1]
    assert evaluate("carried(x, at_most=1)", scope).cells() == [5, 9, 9, 1, 2]
    assert not scope.reports
    gap = Scope(table(id=[1, 1, 2], w=[1, 3, 2], x=[5, None, 1]), ("id",), ("w",))
    assert evaluate("carried(x, at_most=1)", gap).cells() == [5, 5, 1]
    assert [note.text for note in gap.reports] == ["carried() skips missed occasions in 1 row; within= sets a limit."]
    assert evaluate("carried(x, within=1)", gap).cells() == [5, None, 1]
