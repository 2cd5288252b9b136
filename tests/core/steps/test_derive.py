"""Derive: new variables, what follows them into the dictionary, and new names that all else follows."""

from __future__ import annotations

import datetime
from pathlib import Path

import pytest

from lomrix.core.errors import LomrixError, SettingError, UsageError
from lomrix.core.steps.derive.settings import Derive
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.step import ANY_ROWS, Result
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import lomrix, parts_of, rows, sources, table

SEX = Dictionary(
    {"sex": Variable(label="Sex", codes="sex"), "t": Variable(unit="°C", minimum=30, maximum=43)},
    {"sex": {"1": "female", "2": "male"}},
)


def derive(source: Table, *expressions: str, **settings: object) -> Result:
    return Derive(expressions=expressions, **settings).apply(sources(source))


def test_each_may_use_those_before_it_and_the_account_counts_its_cells() -> None:
    made = derive(table(id=[1, 2, 3], x=[4, None, 0]), "y = x * 2", "z = 8 / y")
    assert rows(made.table) == [(1, 4, 8, 1.0), (2, None, None, None), (3, 0, 0, None)]
    balances = {f"{one.what} {one.of}".strip(): (one.total, parts_of(one)) for one in made.account.balances}
    assert balances["cells z"] == (3, {"with a value": 1, "blank": 1, "undefined": 1})
    assert balances["columns of the result"] == (4, {"as before": 2, "new": 2})
    (note,) = made.account.notes
    assert (note.column, note.count, note.examples) == ("z", 1, ((4, ""),))
    assert made.table.dictionary.of("z").description == "Derived: 8 / y"


@pytest.mark.parametrize(
    ("expression", "cell"),
    [("'k'", "k"), ("7", 7), ("0.5", 0.5), ("True", True), ("date('2024-03-05')", datetime.date(2024, 3, 5)),
     ("group_mean(x, by=g)", 2.0), ("upper('k')", "K")],
)  # fmt: skip
def test_one_value_for_all_rows(tmp_path: Path, expression: str, cell: object) -> None:
    made = Derive(expressions=(f"c = {expression}",)).apply(sources(table(x=[1, 3], g=["u", "u"]))).table
    assert made["c"].cells() == [cell, cell]
    assert made["c"].stored is None or made["c"].stored.flags.c_contiguous
    (tmp_path / "a.csv").write_text("x,g\n1,u\n3,u\n")
    for name in ("b.parquet", "b.csv", "b.jsonl"):
        lomrix("derive", "a.csv", f"c = {expression}", "--out", name, cwd=tmp_path)
        lomrix("changes", name, "b.parquet", "--key", "x", cwd=tmp_path, status=0)  # 1 where anything differs


@pytest.mark.parametrize(
    ("expression", "noted"),
    [
        ("m = mean_of('q1..q2')", ["q1", "q2"]),
        ("m = q1 + 1", ["q1"]),
        ("m = q1", []),
        ("m = missing('refused') if q1 == -9 else q1 * 2", []),
    ],
)
def test_likely_missing_codes_that_are_computed_with_are_noted(expression: str, noted: list[str]) -> None:
    made = derive(table(id=[999, 1, 2, 3], q1=[1, 2, -9, 3], q2=[1, 3, 2, -9]), expression)
    assert [note.column for note in made.account.notes if note.kind == "missing-code"] == noted


def test_replacing_must_be_stated() -> None:
    with pytest.raises(UsageError, match="column x already exists"):
        derive(table(x=[1]), "x = x + 1")
    made = derive(table(x=[1], y=[2]), "x = x + 1", replace=True)
    assert (made.table.names, rows(made.table)) == (["x", "y"], [(2, 2)])
    assert parts_of(made.account.balances[1]) == {"as before": 1, "replaced": 1}


def test_many_columns_at_once() -> None:
    source = table(id=["a"], f1=[0], f2=[3], s=[" x "])
    made = derive(source, "f1..f2 as {old}_r = 3 - f1..f2", "@string = strip(@string)", replace=True)
    assert rows(made.table) == [("a", 0, 3, "x", 3, 0)]
    assert made.table.names[-2:] == ["f1_r", "f2_r"]
    assert derive(table(a=[1], b=[2]), "a,b as {old}2 = joined(a,b, 'a,b')").table["b2"].cells() == ["2a,b"]


def test_labels_follow_where_the_result_is_a_value_of_the_variable() -> None:
    source = table(id=[1, 1], when=[0, 1], sex=[1, 2], t=[36.5, 40.0], dictionary=SEX)
    made = derive(
        source, "before = previous(sex)", "same = sex if sex == 1 else missing('x')", "twice = sex * 2",
        "band = bands(t, 37, 38.5)", "f = t * 9 / 5 + 32", "copy = t",
        case="id", occasion="when", label="f=In Fahrenheit", unit="f=°F",
    )  # fmt: skip
    known = made.table.dictionary
    assert known.labels_of("before") == known.labels_of("same") == {"1": "female", "2": "male"}
    assert not known.labels_of("twice")
    assert known.labels_of("band") == {"1": "below 37", "2": "37 to below 38.5", "3": "38.5 and over"}
    assert (known.of("f").label, known.of("f").unit, known.of("copy").unit) == ("In Fahrenheit", "°F", "°C")
    replaced = derive(source, "t = t * 9 / 5 + 32", replace=True).table.dictionary.of("t")
    assert (replaced.maximum, replaced.unit) == (None, "")


def test_codes_of_another_variable_of_that_name_stay() -> None:
    known = Dictionary({"q": Variable(codes="band")}, {"band": {"1": "alpha", "2": "beta"}})
    made = derive(table(q=[1, 2], x=[3, 9], dictionary=known), "band = bands(x, 5)")
    assert made.table.dictionary.labels_of("q") == {"1": "alpha", "2": "beta"}
    assert made.table.dictionary.labels_of("band") == {"1": "below 5", "2": "5 and over"}
    assert [note.text for note in made.account.notes if note.kind == "codes"] == ["codes: 1 below 5, 2 5 and over."]


def test_where_new_variables_are() -> None:
    source = table(a=[1], b=[2], c=[3])
    assert derive(source, "x = a", "y = b", after="a").table.names == ["a", "x", "y", "b", "c"]


def test_renaming_alone_and_by_template() -> None:
    source = table(id=[1], sex=[1], t=[36.5], u=[1], dictionary=SEX)
    made = derive(source, rename="sex=gender", rename_with="{old}_w2", case="id").table
    assert made.names == ["id", "gender", "t_w2", "u_w2"]
    assert made.dictionary.labels_of("gender") == {"1": "female", "2": "male"}
    assert made.dictionary.of("t_w2").maximum == 43
    assert derive(source, rename_with="t,u: w2_{old}").table.names == ["id", "sex", "w2_t", "w2_u"]
    assert derive(source, rename="t=u, u=t").table["t"].cells() == [1]
    assert derive(source, "v = t + 1", rename="v=w").table["w"].cells() == [37.5]


@pytest.mark.parametrize(
    ("settings", "what"),
    [
        ({"rename": "t=u"}, "Two columns would be named u: t and u."),
        ({"rename": "zz=u"}, "No column zz"),
        ({"expressions": "x = t", "label": "y=Y"}, "names y"),
        ({"expressions": "x = t", "after": "zz"}, "No column zz"),
        ({"expressions": "x = previous(t)", "case": "zz"}, "No column zz"),
    ],
)
def test_what_does_not_fit_the_table(settings: dict[str, str], what: str) -> None:
    with pytest.raises(LomrixError, match=what):
        Derive(**settings).apply(sources(table(t=[1], u=[2])))


@pytest.mark.parametrize(
    ("settings", "name"),
    [
        ({"expressions": "sleep / 60"}, "expressions"),
        ({"expressions": "x == 3"}, "expressions"),
        ({"expressions": "x = a +"}, "expressions"),
        ({"expressions": "x = foo(a)"}, "expressions"),
        ({"expressions": "a,b as {old} = a,b +"}, "expressions"),
        ({"expressions": "f1..f6 as g = 1 {old}"}, "expressions"),
        ({}, "expressions"),
        ({"rename": "a=b", "label": "b=B"}, "expressions"),
        ({"rename": "a=c, b=c"}, "rename"),
        ({"rename_with": "w2"}, "rename_with"),
        ({"expressions": "x = 1", "label": "x"}, "label"),
    ],
)
def test_what_cannot_be_is_refused_when_it_is_made(settings: dict[str, str], name: str) -> None:
    with pytest.raises(SettingError) as stopped:
        Derive(**settings)
    assert stopped.value.setting == name


def test_the_other_layout_follows_a_new_name() -> None:
    wide = table(id=[1, 2], sleep_m0=[400, 410], sleep_m12=[420, None], sex=[1, 2])
    long = ToLong(case="id", header="{measure}_m{month}").apply(sources(wide)).table
    renamed = derive(long, rename="sleep=nap, sex=gender").table
    back = ToWide(case="id", occasion="month", header="{measure}_m{month}").apply(sources(renamed)).table
    assert back.names == ["id", "nap_m0", "nap_m12", "gender"]
    assert rows(back) == [(1, 400, 420, 1), (2, 410, None, 2)]


def test_which_may_be_done_in_parts() -> None:
    assert Derive(expressions="x = a + 1").division == ANY_ROWS
    assert Derive(expressions="x = rank(a)").division != ANY_ROWS


def test_the_program_derives(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,month,sleep\n1,12,420\n1,3,400\n2,3,\n")
    out, _ = lomrix(
        "derive", "a.csv", "d = change(sleep)", "--case", "id", "--occasion", "month",
        "--out", "b.csv", cwd=tmp_path,
    )  # fmt: skip
    assert (tmp_path / "b.csv").read_text() == "id,month,sleep,d\n1,12,420,20\n1,3,400,\n2,3,,\n"
    assert "1 variable derived; 3 rows as before." in out
    assert "1 blank, 1 no-occasion" in out
    _, errors = lomrix("derive", "a.csv", "d = sleep + ide", cwd=tmp_path, status=2)
    assert "No column ide in a" in errors
    assert "\nwhere  sleep + ide\n               ^\n" in errors
    output, _ = lomrix("derive", "--functions", cwd=tmp_path)
    assert "change_from_first(x)" in output
    assert output.index("abs(x)") < output.index("previous(") < output.index("row_number()")
