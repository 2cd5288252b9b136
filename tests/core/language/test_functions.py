"""The functions: every example that is shown is worked out, and each agrees with a slow obvious version."""

from __future__ import annotations

import datetime
import math
import re
import statistics
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.parse import is_by_row, load_functions, parse
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type
from lomrix.core.table.table import Table
from tests.tables import column, reasons, table

CONTRACT = """
abs round floor ceiling sqrt exp log log10 min max mean_of sum_of min_of max_of sd_of count_of missing_of previous next
first last change change_from_first running_sum carried occasion_number case_mean case_count case_min case_max case_sd
case_sum group_mean group_count group_sum group_min group_max group_sd group_median group_number rank quantile_group
bands standardised days_between months_between years_between age_on year month day weekday hour minute date datetime
to_minutes minutes_between
strip plain upper lower length contains begins ends joined part to_number zero_padded split_part replaced is_missing
reason first_present missing row_number
"""


def value_of(text: str) -> Any:
    """A cell of an example."""
    if text == "—":
        return None
    if text.startswith("00"):
        return text
    for kind in (int, float, datetime.date.fromisoformat, datetime.datetime.fromisoformat):
        try:
            return kind(text)
        except ValueError:
            continue
    return {"True": True, "False": False}.get(text, text)


def cells_of(text: str) -> list[Any]:
    cells = [value_of(cell.strip()) for cell in text.split(", ")]
    if any(isinstance(cell, str) for cell in cells):
        cells = [None if cell is None else str(cell) for cell in cells]
    return cells


def columns_of(words: str) -> dict[str, Column]:
    made = {}
    for part in words.split("; "):
        name, _, rest = part.strip().partition(" ")
        cells = cells_of(rest)
        is_day = any(isinstance(cell, datetime.date) for cell in cells)
        kind: Type = "datetime" if isinstance(cells[0], datetime.datetime) else "date"
        made[name] = Column.of_cells(kind, cells) if is_day else column(cells)
    return made


def test_the_functions_are_those_of_the_contract() -> None:
    assert sorted(load_functions()) == sorted(CONTRACT.split())
    assert all(
        one.examples and one.description and one.usage.startswith(f"{one.name}(") for one in load_functions().values()
    )


@pytest.mark.parametrize("example", [example for one in load_functions().values() for example in one.examples])
def test_examples_are_true(example: str) -> None:
    asked, _, output = example.rpartition(" is ")
    expression, _, words = asked.partition(" of ")
    expected = cells_of(output)
    columns = columns_of(words) if words else {}
    columns |= {"who": column([1] * len(expected)), "when": column(list(range(len(expected))))}
    found = evaluate(expression, Scope(Table(columns), ("who",), ("when",))).cells()
    assert found == pytest.approx(expected) if isinstance(expected[0], float) else found == expected
    assert [type(cell) for cell in found] == [type(cell) for cell in expected]


# ------------------------------------------------------------- within the case

ROWS = st.lists(
    st.tuples(st.integers(0, 3), st.integers(-5, 9), st.one_of(st.none(), st.integers(-9, 9))),
    min_size=1, max_size=25, unique_by=lambda row: row[:2],
)  # fmt: skip


def courses(rows: list[tuple[int, int, int | None]]) -> dict[int, list[int]]:
    """By case its rows in the order of their occasions, the slow obvious way."""
    return {
        case: sorted((at for at, row in enumerate(rows) if row[0] == case), key=lambda at: rows[at][1])
        for case in {row[0] for row in rows}
    }


def minus(one: int | None, other: int | None) -> int | None:
    return None if one is None or other is None else one - other


def carried(own: list[int | None], at: int) -> int | None:
    for back in range(3):
        if back <= at and own[at - back] is not None:
            return own[at - back]
    return None


def spread(values: list[Any]) -> float | None:
    return statistics.stdev(values) if len(values) > 1 else None


COURSE: dict[str, Callable[[list[int | None], list[int], int], Any]] = {
    "previous(x)": lambda own, when, at: own[at - 1] if at else None,
    "previous(x, 2)": lambda own, when, at: own[at - 2] if at > 1 else None,
    "previous(x, within=3)": lambda own, when, at: own[at - 1] if at and when[at] - when[at - 1] <= 3 else None,
    "next(x)": lambda own, when, at: own[at + 1] if at + 1 < len(own) else None,
    "first(x)": lambda own, when, at: own[0],
    "last(x)": lambda own, when, at: own[-1],
    "change(x)": lambda own, when, at: minus(own[at], own[at - 1]) if at else None,
    "change_from_first(x)": lambda own, when, at: minus(own[at], own[0]),
    "running_sum(x)": lambda own, when, at: None if own[at] is None else sum(v for v in own[: at + 1] if v is not None),
    "carried(x, at_most=2)": lambda own, when, at: carried(own, at),
    "occasion_number()": lambda own, when, at: at + 1,
    "case_count(x)": lambda own, when, at: sum(v is not None for v in own),
    "case_sum(x)": lambda own, when, at: (
        sum(v for v in own if v is not None) if any(v is not None for v in own) else None
    ),
    "case_min(x)": lambda own, when, at: min((v for v in own if v is not None), default=None),
    "case_mean(x)": lambda own, when, at: (
        statistics.fmean(v for v in own if v is not None) if set(own) != {None} else None
    ),
    "case_sd(x)": lambda own, when, at: spread([v for v in own if v is not None]),
    "case_max(x)": lambda own, when, at: max((v for v in own if v is not None), default=None),
}


@given(rows=ROWS)
def test_within_a_case_as_the_obvious_way(rows: list[tuple[int, int, int | None]]) -> None:
    source = table(who=[row[0] for row in rows], when=[row[1] for row in rows])
    source = source.with_columns({**source.columns, "x": Column.of_cells("integer", [row[2] for row in rows])})
    for text, obvious in COURSE.items():
        expected: list[Any] = [None] * len(rows)
        for course in courses(rows).values():
            own, when = [rows[at][2] for at in course], [rows[at][1] for at in course]
            for place, at in enumerate(course):
                expected[at] = obvious(own, when, place)
        found = evaluate(text, Scope(source, ("who",), ("when",))).cells()
        for cell, value in zip(found, expected, strict=True):
            assert cell == (pytest.approx(value) if isinstance(value, float) else value), text


def test_reasons_within_a_case() -> None:
    source = table(who=["a", "a", "b"], when=[3, 12, 0], x=[1, None, 4])
    scope = Scope(source, ("who",), ("when",))
    assert reasons(evaluate("previous(x)", scope)) == ["no-occasion", None, "no-occasion"]
    assert reasons(evaluate("change(x)", scope)) == ["no-occasion", "blank", "no-occasion"]
    assert evaluate("case_mean(x)", scope).cells() == [1.0, 1.0, 4.0]


def test_occasions_are_in_their_order_and_not_that_of_their_letters() -> None:
    words = table(who=[1] * 3, when=["visit 12", "visit 3", "visit 1"], x=[30, 20, 10])
    assert evaluate("previous(x)", Scope(words, ("who",), ("when",))).cells() == [20, 10, None]
    turns = table(who=[1, 1], when=["before", "after"], x=[1, 2])
    assert evaluate("change(x)", Scope(turns, ("who",), ("when",))).cells() == [None, 1]


def test_who_is_twice_has_no_order() -> None:
    with pytest.raises(DataError) as stopped:
        evaluate("previous(x)", Scope(table(who=[7, 7, 7], when=[2, 1, 2], x=[1, 2, 3]), ("who",), ("when",)))
    assert stopped.value.where == "7 2 (rows 2, 4)"


def test_what_must_be_known_is_asked_for_by_name() -> None:
    for scope in (Scope(table(x=[1])), Scope(table(x=[1]), ("x",))):
        with pytest.raises(UsageError) as stopped:
            evaluate("previous(x)", scope)
        assert "‹occasion=COLUMN›" in stopped.value.todo
        assert ("‹case=COLUMN›" in stopped.value.todo) is (not scope.case)


def test_a_long_case_costs_another_no_digits() -> None:
    many = 600
    source = table(who=[1] * many + [2] * 3, when=[*range(many), 0, 1, 2], x=[1e16] * many + [0.1, 0.2, 0.3])
    found = evaluate("running_sum(x)", Scope(source, ("who",), ("when",))).cells()
    assert found[-3:] == [0.1, 0.1 + 0.2, 0.1 + 0.2 + 0.3]
    assert found[many - 1] == pytest.approx(many * 1e16)


# ------------------------------------------------------------ groups, standing

PAIRS = st.lists(
    st.tuples(st.sampled_from(["a", "B", None]), st.one_of(st.none(), st.integers(0, 6))), min_size=1, max_size=20
)


def ranked(values: list[int], value: int) -> float:
    return sum(v < value for v in values) + (sum(v == value for v in values) + 1) / 2


def quarter(values: list[int], value: int) -> int:
    return 1 + sum(bool(value > cut) for cut in np.quantile(values, (0.25, 0.5, 0.75)))


GROUPED: dict[str, Callable[[list[int], int | None], Any]] = {
    "group_mean(x, by=g)": lambda own, x: statistics.fmean(own) if own else None,
    "group_count(x, by=g)": lambda own, x: len(own),
    "group_sum(x, by=g)": lambda own, x: sum(own) if own else None,
    "group_min(x, by=g)": lambda own, x: min(own, default=None),
    "group_max(x, by=(g, g))": lambda own, x: max(own, default=None),
    "group_sd(x, by=g)": lambda own, x: statistics.stdev(own) if len(own) > 1 else None,
    "group_median(x, by=g)": lambda own, x: statistics.median(own) if own else None,
    "rank(x, by=g)": lambda own, x: None if x is None else ranked(own, x),
    "quantile_group(x, 4, by=g)": lambda own, x: None if x is None else quarter(own, x),
    "standardised(x, by=g)": lambda own, x: (
        None if x is None or len(set(own)) < 2 else (x - statistics.fmean(own)) / statistics.stdev(own)
    ),
}


@given(pairs=PAIRS)
def test_groups_as_the_obvious_way(pairs: list[tuple[str | None, int | None]]) -> None:
    source = table(g=[g for g, _ in pairs])
    source = source.with_columns({**source.columns, "x": Column.of_cells("integer", [x for _, x in pairs])})
    for text, obvious in GROUPED.items():
        found = evaluate(text, source)
        cells, why = found.cells(), reasons(found)
        for row, (g, x) in enumerate(pairs):
            own = [value for other, value in pairs if other == g and value is not None]
            expected = None if g is None else obvious(own, x)
            assert (cells[row] is None) == (expected is None), text
            assert expected is None or cells[row] == pytest.approx(expected, abs=1e-12), text
            assert g is not None or why[row] == "blank", text


@given(pairs=PAIRS)
def test_groups_are_numbered_in_order_of_appearance(pairs: list[tuple[str | None, int | None]]) -> None:
    source = Table({
        "g": Column.of_cells("string", [g for g, _ in pairs]), "x": Column.of_cells("integer", [x for _, x in pairs]),
    })  # fmt: skip
    whole = dict.fromkeys(pair for pair in pairs if None not in pair)
    expected = [None if None in pair else list(whole).index(pair) + 1 for pair in pairs]
    assert evaluate("group_number(g, x)", source).cells() == expected


def test_a_missing_key_gives_its_reason_and_no_group() -> None:
    source = Table({"x": column([1, 2, 3]), "g": Column.of_cells("string", ["a", None, "a"], "refused")})
    assert evaluate("group_sum(x, by=g)", source).cells() == [4, None, 4]
    assert reasons(evaluate("group_number(g)", source)) == [None, "refused", None]


def test_bands_take_their_lower_edge() -> None:
    assert evaluate("bands(x, -1.5, 20)", table(x=[-2.0, -1.5, 19.99, 20.0])).cells() == [1, 2, 2, 3]
    with pytest.raises(UsageError, match="needs ascending edges"):
        evaluate("bands(x, 3, 3)", table(x=[1]))


# ---------------------------------------------------------------- exact numbers


@given(st.integers(-(2**63), 2**63 - 1), st.integers(-(2**63), 2**63 - 1), st.sampled_from(["+", "-", "*", "//", "%"]))
def test_whole_numbers_are_exact_or_undefined(x: int, y: int, character: str) -> None:
    found = evaluate(f"x {character} y", table(x=[x], y=[y]))
    expected = None if y == 0 and character in ("//", "%") else eval(f"x {character} y", {"x": x, "y": y})
    if expected is None or not -(2**63) <= expected < 2**63:
        assert (found.cells(), reasons(found)) == ([None], ["undefined"])
    else:
        assert found.cells() == [expected]


@given(st.integers(-40, 40), st.integers(0, 70))
def test_powers_are_exact_or_undefined(x: int, y: int) -> None:
    found = evaluate("x ** y", table(x=[x], y=[y])).cells()
    assert found == [x**y if -(2**63) <= x**y < 2**63 else None]


@pytest.mark.parametrize(
    ("text", "cells"),
    [
        ("9**9**9**9", [None]),
        ("-x - 1", [None]),
        ("-(x)", [None]),
        ("abs(x)", [None]),
        ("1e308 * 10", [None]),
        ("sqrt(-1) + log(0) + log10(-5) + exp(1000)", [None]),
        ("2 ** -1", [0.5]),
        ("d + 4000000", [None]),
        ("d - x", [None]),
        ("d - '2024-01-01'", [59]),
        ("max(d, d + 1) - d", [1]),
    ],
)
def test_what_has_no_value_is_undefined_and_reports_nothing(text: str, cells: list[Any], recwarn: Any) -> None:
    source = table(x=[-(2**63)])
    source = source.with_columns({**source.columns, "d": Column.of_cells("date", [datetime.date(2024, 2, 29)])})
    found = evaluate(text, source)
    assert found.cells() == cells
    assert reasons(found) == ["undefined" if cell is None else None for cell in cells]
    assert not recwarn.list


# ----------------------------------------------------- dates, texts, what is missing

DAYS = st.dates(datetime.date(1900, 1, 1), datetime.date(2100, 12, 31))


@given(DAYS, DAYS)
def test_ages_as_birthdays_come(birth: datetime.date, day: datetime.date) -> None:
    source = Table({"b": Column.of_cells("date", [birth]), "d": Column.of_cells("date", [day])})
    years = day.year - birth.year - ((day.month, day.day) < (birth.month, birth.day))
    assert evaluate("age_on(b, d)", source).cells() == [years if day >= birth else None]
    assert evaluate("years_between(d, b)", source).cells() == [
        -v for v in evaluate("years_between(b, d)", source).cells()
    ]
    assert evaluate("weekday(d)", source).cells() == [day.isoweekday()]
    assert evaluate("days_between(b, d)", source).cells() == [(day - birth).days]


@pytest.mark.parametrize(
    ("text", "cells"),
    [
        ('joined(s, n, with="-")', ["ab-7", None, "x1-12"]),
        ("joined(s, s)", ["abab", None, "x1x1"]),
        ('part(s, "[a-z]([0-9])")', [None, None, "1"]),
        ('part(s, "(x)(1)")', [None, None, "x"]),
        ('part(s, "^.")', ["a", None, "x"]),
        ("to_number(part(s, '[0-9]+'))", [None, None, 1]),
        ("zero_padded(n, 3)", ["007", "-03", "012"]),
        ("n if n > 0 else missing('negative')", [7, None, 12]),
        ("date('2024-02-' + 'x') if n > 99 else missing('y')", None),
    ],
)
def test_texts(text: str, cells: list[Any] | None) -> None:
    source = table(s=["ab", None, "x1"], n=[7, -3, 12])
    if cells is None:
        with pytest.raises(UsageError, match="Texts cannot be added"):
            evaluate(text, source)
        return
    assert evaluate(text, source).cells() == cells


def test_missing_reports_why() -> None:
    made = evaluate("missing('implausible') if x > 900 else x", table(x=[5, 999, None]))
    assert (made.type, made.cells(), reasons(made)) == ("integer", [5, None, None], [None, "implausible", "blank"])


@pytest.mark.parametrize(
    "text",
    [
        "mean_of(f1)", "mean_of('')", "mean_of('f1', at_most=2)", "carried(x, 2)", "previous(x, x)", "previous()",
        "group_mean(x)", "group_mean(x, by=nothing)", "bands(x)", "bands(x, y)", "part(s, '(')", "missing(3)",
        "zero_padded(s, 0)", "quantile_group(x, 1)", "date(s, 'day')", "strip(x)", "previous(x, 0)", "contains(s, s)",
        "mean_of(*x)", "mean_of(**x)", "abs(x, x)", "round(x, places=1)", "group_mean(s, by=x)",
    ],
)  # fmt: skip
def test_a_call_that_cannot_be_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        evaluate(text, Scope(table(x=[1], y=[2], s=["a"], w=[1], t=[1]), ("w",), ("t",)))


def test_a_regular_expression_cannot_hang() -> None:
    assert evaluate("part(s, '(a+)+$')", table(s=["a" * 5000 + "b"])).cells() == [None]


def test_which_expressions_examine_other_rows() -> None:
    assert is_by_row(parse("abs(x) + mean_of('f*')"))
    assert not any(is_by_row(parse(text)) for text in ("1 + previous(x)", "rank(x)", "group_mean(x, by=g) > 1"))


def test_statistics_across_columns_by_hand() -> None:
    # Mean 4, squares of deviations 9 + 1 + 4 = 14, over 2: 7.
    source = table(f1=[1, None], f2=[5, 2], f3=[6, None])
    assert evaluate("sd_of('f1..f3')", source).cells() == [math.sqrt(7), None]
    assert reasons(evaluate("mean_of('f1..f3')", source)) == [None, "blank"]
    assert reasons(evaluate("mean_of('f1..f3', at_least=2)", source)) == [None, "too-few"]
    none = Table({"f1": Column.of_cells("integer", [None, 1], "refused"), "f2": column([None, None])})
    assert reasons(evaluate("mean_of('f1..f2', at_least=2)", none)) == ["refused", "too-few"]
    assert evaluate("sum_of('f1..f3', at_least=1) - count_of('@number')", source).cells() == [9, 1]


# ------------------------------------------- each row on its own, the obvious way

CELLS = st.fixed_dictionaries(
    {
        "x": st.one_of(st.none(), st.integers(-9, 9)),
        "y": st.one_of(st.none(), st.floats(-1e3, 1e3).map(lambda value: round(value, 3))),
        "s": st.one_of(st.none(), st.text("ab1 -", max_size=6)),
        "d": st.one_of(st.none(), DAYS),
        "e": st.one_of(st.none(), DAYS),
    }
)
Row = dict[str, Any]


def present(row: Row) -> list[float]:
    return [float(row[name]) for name in "xy" if row[name] is not None]


def months(start: datetime.date, end: datetime.date) -> int:
    """Completed months, counted one by one."""
    if end < start:
        return -months(end, start)
    count = 0
    while True:
        year, month = divmod(start.year * 12 + start.month - 1 + count + 1, 12)
        if (end.year, end.month + 0, end.day) < (year, month + 1, start.day):
            return count
        count += 1


def number(text: str) -> float | None:
    try:
        return float(text) if "_" not in text else None
    except ValueError:
        return None


def zero_filled(text: str) -> str:
    return "-" + text[1:].rjust(3, "0") if text.startswith("-") else text.rjust(4, "0")


def group_in(pattern: str, text: str) -> str | None:
    found = re.search(pattern, text)
    return found[1] if found else None


# By expression: the columns that must be present, and what becomes of them.
BY_ROW: dict[str, tuple[str, Callable[[Row], Any]]] = {
    "abs(x)": ("x", lambda row: abs(row["x"])),
    "round(y, 1)": ("y", lambda row: float(np.round(row["y"], 1))),
    "floor(y)": ("y", lambda row: math.floor(row["y"])),
    "ceiling(y)": ("y", lambda row: math.ceil(row["y"])),
    "sqrt(y)": ("y", lambda row: math.sqrt(row["y"]) if row["y"] >= 0 else None),
    "log(y)": ("y", lambda row: math.log(row["y"]) if row["y"] > 0 else None),
    "log10(abs(y) + 1)": ("y", lambda row: math.log10(abs(row["y"]) + 1)),
    "exp(x)": ("x", lambda row: math.exp(row["x"])),
    "min(x, y)": ("xy", lambda row: float(min(row["x"], row["y"]))),
    "max(d, e)": ("de", lambda row: max(row["d"], row["e"])),
    "mean_of('x,y')": ("xy", lambda row: (row["x"] + row["y"]) / 2),
    "sum_of('x,y', at_least=1)": (
        "",
        lambda row: None if row["x"] is row["y"] is None else (row["x"] or 0) + (row["y"] or 0),
    ),
    "count_of('x,y,s')": ("", lambda row: sum(row[name] is not None for name in "xys")),
    "missing_of('x,y,s')": ("", lambda row: sum(row[name] is None for name in "xys")),
    "min_of('x,y', at_least=1)": ("", lambda row: min(present(row), default=None)),
    "max_of('x,y')": ("xy", lambda row: float(max(present(row)))),
    "sd_of('x,y')": ("xy", lambda row: spread(present(row))),
    "bands(y, -5, 0, 7.5)": ("y", lambda row: 1 + sum(row["y"] >= edge for edge in (-5, 0, 7.5))),
    "reason(x)": ("", lambda row: "" if row["x"] is not None else "blank"),
    "years_between(d, e)": ("de", lambda row: int(months(row["d"], row["e"]) / 12)),
    "date(joined(day(d), month(d), year(d), with='.'), '%d.%m.%Y') == d": ("d", lambda row: True),
    "days_between(d, e)": ("de", lambda row: (row["e"] - row["d"]).days),
    "months_between(d, e)": ("de", lambda row: months(row["d"], row["e"])),
    "year(d) * 10000 + month(d) * 100 + day(d)": ("d", lambda row: int(row["d"].strftime("%Y%m%d"))),
    "weekday(d)": ("d", lambda row: row["d"].isoweekday()),
    "strip(s)": ("s", lambda row: row["s"].strip()),
    "upper(s)": ("s", lambda row: row["s"].upper()),
    "lower(upper(s))": ("s", lambda row: row["s"]),
    "length(s)": ("s", lambda row: len(row["s"])),
    "contains(s, 'ab')": ("s", lambda row: "ab" in row["s"]),
    "begins(s, 'a')": ("s", lambda row: row["s"].startswith("a")),
    "ends(s, '1')": ("s", lambda row: row["s"].endswith("1")),
    "joined(s, x, with='/')": ("sx", lambda row: f"{row['s']}/{row['x']}"),
    "part(s, 'a(1+)')": ("s", lambda row: group_in("a(1+)", row["s"])),
    "zero_padded(s, 4)": ("s", lambda row: zero_filled(row["s"])),
    "is_missing(x)": ("", lambda row: row["x"] is None),
    "first_present(x, y, 0)": ("", lambda row: next(float(v) for v in (row["x"], row["y"], 0) if v is not None)),
    "x if y > 0 else -1": ("y", lambda row: row["x"] if row["y"] > 0 else -1),
    "x * 2 if s == 'a' else missing('other')": ("sx", lambda row: row["x"] * 2 if row["s"] == "a" else None),
    "row_number() - x": ("x", lambda row: row["at"] - row["x"]),
}


@given(cells=st.lists(CELLS, min_size=1, max_size=8))
def test_row_by_row_as_the_obvious_way(cells: list[Row]) -> None:
    types: dict[str, Any] = {"x": "integer", "y": "number", "s": "string", "d": "date", "e": "date"}
    source = Table({name: Column.of_cells(type_, [row[name] for row in cells]) for name, type_ in types.items()})
    for text, (needed, obvious) in BY_ROW.items():
        expected = [
            None if any(row[name] is None for name in needed) else obvious({**row, "at": at})
            for at, row in enumerate(cells, start=1)
        ]
        # An empty text is blank once it is in a column.
        expected = [None if value == "" else value for value in expected]
        found = evaluate(text, source).cells()
        for cell, value in zip(found, expected, strict=True):
            assert (cell is None) == (value is None), text
            assert cell == (pytest.approx(value, rel=1e-12) if isinstance(value, float) else value), text


@given(
    st.lists(st.one_of(st.none(), st.sampled_from(["1", "-2", "2.5", "x", "", "1e3", " 7 ", "0x1", "1,5"])), min_size=1)
)
def test_numbers_in_texts(texts: list[str | None]) -> None:
    found = evaluate("to_number(s)", Table({"s": Column.of_cells("string", texts)})).cells()
    assert found == [None if text is None else number(text) for text in texts]


def test_times_of_day_count_where_there_are_some() -> None:
    times = [datetime.datetime(2024, 1, 31, 18, 0), datetime.datetime(2023, 12, 31, 23, 59), None]
    later = [datetime.datetime(2024, 3, 31, 17, 59), datetime.datetime(2024, 2, 1, 0, 0), times[0]]
    source = Table({"a": Column.of_cells("datetime", times), "b": Column.of_cells("datetime", later)})
    assert evaluate("year(a) * 100 + month(a)", source).cells() == [202401, 202312, None]
    assert evaluate("day(a) + 100 * weekday(a)", source).cells() == [331, 731, None]
    assert evaluate("hour(a) * 100 + minute(a)", source).cells() == [1800, 2359, None]
    with pytest.raises(UsageError, match="needs a date with a time"):
        evaluate("hour(date(a))", source)
    assert evaluate("months_between(a, b)", source).cells() == [1, 1, None]
    assert evaluate("months_between(b, a)", source).cells() == [-1, -1, None]
    assert evaluate("days_between(a, b)", source).cells() == pytest.approx([60 - 1 / 1440, 31 + 1 / 1440, None])
    assert evaluate("minutes_between(a, b)", source).cells() == [86_399.0, 44_641.0, None]
    assert evaluate("hour('2024-01-31 18:05')", source).cells() == [18] * 3
    for text in ("2024-01-31 18:00", "2024-01-31T00:00+01:00"):  # a date would lose it
        with pytest.raises(UsageError, match="has a"):
            evaluate(f"days_between('{text}', a)", source)
    assert evaluate("b - a == days_between(a, b)", source).cells() == [True, True, None]
    assert evaluate("a + 1 - a", source).cells() == [1.0, 1.0, None]
    assert evaluate("date(a)", source).cells() == [datetime.date(2024, 1, 31), datetime.date(2023, 12, 31), None]


def test_changes_of_dates_and_numbers_and_gaps_in_days() -> None:
    days = [datetime.date(2024, 1, 1), datetime.date(2024, 1, 31), datetime.date(2024, 3, 31)]
    source = Table({"who": column([1, 1, 1]), "when": Column.of_cells("date", days), "x": column([0.5, 2.0, 1.0])})
    scope = Scope(source, ("who",), ("when",))
    assert evaluate("change(when)", scope).cells() == [None, 30, 60]
    assert evaluate("change(x)", scope).cells() == [None, 1.5, -1.0]
    assert evaluate("previous(x, within=30)", scope).cells() == [None, 0.5, None]
    assert evaluate("next(x, within=30.5)", scope).cells() == [2.0, None, None]
    words = Scope(table(who=[1], when=["w1"], x=["a"]), ("who",), ("when",))
    for text, what in (
        ("previous(x, within=2)", "needs occasions that are numbers or dates"),
        ("change(x)", "change\\(\\) needs numbers"),
    ):
        with pytest.raises(UsageError, match=what):
            evaluate(text, words)
    large = Scope(table(who=[1, 1], when=[0, 1], x=[-(2**63), 1]), ("who",), ("when",))
    assert reasons(evaluate("change(x)", large)) == ["no-occasion", "undefined"]


@pytest.mark.parametrize(
    ("text", "what", "todo"),
    [
        ("previous(x, 0)", "previous() needs at least 1 occasion, not 0.", "Write previous(x) or previous(x, 2)."),
        ("upper(x)", "upper() needs text, but the operand is integer.", "Use a column of text."),
        ("year(x)", "year() needs a date, but the operand is integer.", "Check the column's type."),
        ("quantile_group(x, 1)", "quantile_group() makes 2 to 1000 groups, not 1.", "Write quantile_group(x, 4)."),
        ("zero_padded(s, 0)", "zero_padded() gives 1 to 1000 characters, not 0.", "Write zero_padded(x, 4)."),
        ("date(x)", "date() needs a text, but the operand is integer.", "Use a column of text."),
        ("mean_of('s')", "mean_of() needs numbers, but an operand is string.", "check lists the cells"),
        ("group_mean(s, by=x)", "The mean of values of type string cannot be computed.", "Use numbers"),
        ("abs(x, x)", "abs() has too many operands.", "Write abs(x)."),
        ("contains(s)", "contains() is called with the wrong operands.", 'Write contains(x, "text").'),
        ("contains(s, 3)", "contains() needs a text in quotation marks for text.", 'Write contains(x, "text").'),
        (
            "carried(x, at_least=1)",
            "carried() has no operand at_least=; it has at_most, within.",
            "Write carried(x, at_most=2, within=…).",
        ),
        ("strip(s, by=x)", "strip() has no operand by=.", "Write strip(x)."),
        ("part(s, '(')", '"(" is not a supported regular expression.', "[0-9]+ for digits"),
    ],
)
def test_what_is_stated_of_a_call_that_cannot_be(text: str, what: str, todo: str) -> None:
    with pytest.raises(UsageError) as stopped:
        evaluate(text, Scope(table(x=[1], s=["a"], w=[1], t=[1]), ("w",), ("t",)))
    assert stopped.value.what == what
    assert todo in stopped.value.todo


@pytest.mark.parametrize(
    ("text", "cells"),
    [
        ("x + y", [2**63 - 2, -(2**63) + 5, None]),
        ("x - z", [2**63 - 2, -(2**63) + 5, None]),
        ("z - x", [-(2**63) + 2, 2**63 - 5, -(2**63)]),
        ("x * y", [-(2**63) + 1, None, 2**63 - 1]),
        ("x // y", [-(2**63) + 1, -1844674407370955162, 2**63 - 1]),
    ],
)
def test_at_the_ends_of_64_bits(text: str, cells: list[int | None]) -> None:
    source = table(x=[2**63 - 1, -(2**63), 2**63 - 1], y=[-1, 5, 1], z=[1, -5, -1])
    assert evaluate(text, source).cells() == cells
