"""Clean: findings by hand, ledgers, recoding, choosing, and unnaming."""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays import order_statistics
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows import column_survey, partitions
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.check import findings
from lomrix.core.steps.check.cells import Usual
from lomrix.core.steps.check.settings import Check
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.deidentify.settings import Deidentify
from lomrix.core.steps.dictionary.draft import find_misfits
from lomrix.core.steps.profile.settings import Profile
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.recode.value_map import parse_map
from lomrix.core.steps.report.settings import Report
from lomrix.core.steps.score.settings import Score
from lomrix.core.steps.subset.settings import Subset
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header_guess import guess_families
from lomrix.core.table.missing_guess import CodeEvidence, guess_missing_codes
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, correcting, parts_of, reasons, rows, sources, table, unnaming
from tests.tables import rows as rows_of

SEX = Dictionary({"sex": Variable(codes="sex", level="case")}, {"sex": {"1": "female", "2": "male"}})


def ledger(*lines: tuple[str | None, ...], heads: str = "id row variable old action new") -> Table:
    names = heads.split()
    return Table({name: Column.of_cells("string", [line[at] for line in lines]) for at, name in enumerate(names)})


# ------------------------------------------------------------------------ check


def found(source: Table, **settings: Any) -> dict[str, list[int]]:
    facts = Check(**settings).apply(sources(source)).account.facts["findings"]
    return {f"{one['rule']} {one['column']}": one["rows"] for one in facts}


def test_a_rule_that_cannot_be_judged_is_not_a_rule_that_holds() -> None:
    rules = Dictionary({}, {}, {"short": "slep < 900", "both": "sleep > nap", "other": "month in (0, 3)"})
    account = Check().apply(sources(table("t", rules, sleep=[400, 300]))).account
    assert account.facts["broken"] == 2
    assert [(row[1], row[4]) for row in account.listings[0].rows] == [
        ("short", "slep < 900 (not checked: no column slep)"), ("both", "sleep > nap (not checked: no column nap)"),
    ]  # fmt: skip
    assert account.notes[0].text == "not checked, since this file has none of their columns: other."


def test_each_rule_finds_its_cells() -> None:
    rules = Dictionary(
        {
            "sex": Variable(codes="sex", level="case"), "age": Variable(minimum=16, maximum=75),
            "ship": Variable(allowed=("tern", "gull")), "day": Variable(maximum=datetime.date(2024, 12, 31)),
        },
        SEX.codes,
        {"adult": "age >= 18", "elsewhere": "nowhere > 1"},
    )  # fmt: skip
    source = Table(
        {
            "id": column(["001", "002", "002", None, "5", *[f"1{at:02d}" for at in range(20)]]),
            "sex": column([1, 2, 1, 3, 2, *[1] * 20]),
            "age": column([15, 40, 40, 80, 17, *[30] * 20]),
            "ship": column(["tern", "gull ", "gull", "tern", "trn", *["tern"] * 20]),
            "dose": column(["5", "6", "seven h", "7", "8", *["9"] * 20]),
            "day": Column.of_cells("date", [datetime.date(2042, 7, 15), *[datetime.date(2024, 7, 15)] * 24]),
            "pulse": column([61.5, *[float(60 + at % 7) for at in range(24)]]),
        },
        rules,
    )
    assert found(source, key=("id",)) == {
        "key-missing id": [5],
        "key-repeated id": [3, 4],
        "key-shape id": [6],
        "case-changes sex": [3, 4],
        "text-in-numbers dose": [4],
        "not-listed sex": [5],
        "not-listed ship": [3, 6],
        "out-of-range age": [2, 5],
        "out-of-range day": [2],
        "spaces-around ship": [3],
        "adult ": [2, 6],
        "mixed-decimals pulse": [2],
    }


def test_decimals_where_the_dictionary_reports_whole_numbers() -> None:
    settings = Dictionary({"x": Variable(type="integer")})
    assert found(table(x=[1.0, 2.5, None, 3.0], dictionary=settings)) == {"not-whole x": [3]}
    assert found(table(x=[1.0, 2.0, None], dictionary=settings)) == {}


def test_a_clean_table_has_no_finding() -> None:
    source = table(id=[f"{at:03d}" for at in range(50)], x=list(range(50)), dictionary=SEX)
    assert found(source, key=("id",)) == {}


def find_far(values: Column) -> tuple[list[int], dict[str, str | None]]:
    usual = Usual.of(values)
    return ([], {}) if usual is None else (np.flatnonzero(usual.find_far(values)).tolist(), usual.describe(values.type))


def test_far_out_values_by_hand() -> None:
    # Quartiles of 1..13 are 4 and 10, so the outer fences are -14 and 28.
    assert find_far(column([value - 20 for value in [*range(1, 14), 29]]))[0] == []
    # With 60 the quartiles are 4.25 and 10.75: fence at 30.25.
    assert find_far(column([value - 20 for value in [*range(1, 14), 60]])) == (
        [13],
        {"minimum": "-19", "maximum": "-7"},
    )
    skewed = np.exp(np.random.default_rng(3).normal(4, 0.7, 400))
    assert find_far(Column.of("number", skewed))[0] == []
    assert find_far(column([5] * 20 + [900]))[0] == []


CHECKED = st.tuples(
    st.sampled_from([None, "a1", "a2", "b", " a1"]), st.sampled_from([None, 1, 2, 3]),
    st.sampled_from([1.0, 2.0, 2.5, 3.0, 70.0, -9.0, 999.0, None]), st.sampled_from(["1,5", "2", " 3", "x", None]),
    st.sampled_from(["a", "b", "c ", None]),
)  # fmt: skip


@given(st.lists(CHECKED, min_size=1, max_size=40))
def test_blocks_and_some_keys_at_a_time_find_the_same(lines: list[tuple[Any, ...]]) -> None:
    names = dict(zip(("id", "sex", "x", "dose", "ship"), map(list, zip(*lines, strict=True)), strict=True))
    entries = Dictionary({"sex": Variable(codes="sex", level="case"), "ship": Variable(allowed=("a", "b"))}, SEX.codes)
    rules = replace(entries, rules={"low": "x < 3", "near": "abs(standardised(x)) < 1"})
    source = Table({name: column(values) for name, values in names.items()}, rules)
    settings = {"key": ("id", "sex"), "case": ("id",)}
    whole = Check(**settings).apply(sources(source), {"draft_ledger"})
    with (
        mock.patch.object(column_survey, "BLOCK", 3), mock.patch.object(findings, "BLOCK", 2),
        mock.patch.object(partitions, "MOST_ROWS", 4), mock.patch.object(order_statistics, "FEW", 0),
    ):  # fmt: skip
        blocks = Check(**settings).apply(sources(source), {"draft_ledger"})
    assert blocks.account == whole.account
    assert blocks.extras["draft_ledger"].same_as(whole.extras["draft_ledger"])


@pytest.mark.parametrize("first", [list(range(40)), [1] * 40, [1] * 20 + [2] * 20, [2, 1] * 20])
def test_keys_are_looked_at_some_at_a_time(first: list[int]) -> None:
    source = table(g=first, id=[number // 2 for number in range(40)])
    with mock.patch.object(partitions, "MOST_ROWS", 8):
        shares = [rows.tolist() for rows, _ in partitions.split_by_key(source, ("g", "id"))]
    assert sorted(row for share in shares for row in share) == list(range(40))
    assert len(shares) == 5 and max(map(len, shares)) <= 20


def test_a_draft_of_a_ledger_names_every_cell() -> None:
    source = table(id=["a", "b"], age=[7, 30], dictionary=Dictionary({"age": Variable(minimum=16)}))
    made = Check(key=("id",)).apply(sources(source), {"draft_ledger"}).extras["draft_ledger"]
    assert rows(made) == [("a", 2, "age", "7", "set", None, "out-of-range: from 16", None)]


# ---------------------------------------------------------------------- correct


def test_a_ledger_is_applied_only_where_the_old_value_is() -> None:
    source = table(id=["a", "b", "c"], sleep=["430", "seven h", "410 est."], age=[40, None, 29])
    entries = ledger(
        ("b", None, "sleep", "seven h", "set", "420"),
        ("c", None, "sleep", "410 est.", "note", "410"),
        ("a", None, "age", "40", "missing", "implausible"),
        ("b", None, "age", None, "set", "33"),
        ("c", None, "age", "29", "set", "29"),
        ("a", None, "sleep", "430", "set", None),
    )
    result = Correct().apply(correcting(source, entries))
    assert result.table["sleep"].type == "integer"
    assert rows(result.table) == [("a", 430, None, None), ("b", 420, 33, None), ("c", 410, 29, "sleep: 410 est.")]
    assert reasons(result.table["age"]) == ["implausible", None, None]
    assert parts_of(result.account.balances[0]) == {"applied": 4, "already so": 1, "left open": 1}
    again = Correct().apply(correcting(result.table, entries)).account.balances[0]
    assert parts_of(again) == {"already so": 5, "left open": 1}


@pytest.mark.parametrize(
    ("entry", "cause"),
    [
        (("a", None, "sleep", "999", "set", "1"), 'sleep in row 2 holds "430", not "999"'),
        (("z", None, "sleep", "430", "set", "1"), "the key is not in the file"),
        (("b", None, "sleep", "1", "set", "2"), "the key repeats: name the row"),
        (("a", "3", "sleep", "1", "set", "2"), "row 3 has another key"),
        (("a", "99", "sleep", "1", "set", "2"), "there is no row 99"),
        (("a", None, "slep", "430", "set", "1"), "there is no variable slep"),
        (("a", None, "sleep", "430", "erase", "1"), 'there is no action "erase"'),
        (("a", None, "sleep", "430", "missing", None), "the reason is missing"),
        ((None, None, "sleep", "430", "set", "1"), "neither key nor row is given"),
    ],
)
def test_a_refused_entry_reports_why_and_stops(entry: tuple[str | None, ...], cause: str) -> None:
    source = table(id=["a", "b", "b"], sleep=[430, 1, 1])
    with pytest.raises(DataError) as caught:
        Correct().apply(correcting(source, ledger(entry)))
    assert cause in caught.value.where
    partly = Correct(partly=True).apply(correcting(source, ledger(entry)))
    assert partly.table.same_as(source)
    assert partly.account.notes[0].kind == "refused"


def test_rows_by_number_and_rows_left_out() -> None:
    source = table(id=["a", "b", "b", None], x=[1, 2, 3, 4])
    entries = ledger(("b", "4", "x", None, "leave-out", None), (None, "5", "id", None, "set", "c"))
    assert rows(Correct().apply(correcting(source, entries)).table) == [("a", 1), ("b", 2), ("c", 4)]


# ----------------------------------------------------------------------- recode


def recoded(cells: list[Any], text: str, **settings: Any) -> Column:
    return Recode(map=(f"x: {text}",), **settings).apply(sources(table(x=cells))).table["x"]


@pytest.mark.parametrize(
    ("cells", "text", "made"),
    [
        (["day", "holiday", None], "day=1", ["1", "holiday", None]),
        (["day", "night"], "day=1, night=2", [1, 2]),
        ([1, 2, 9], "9=missing:refused", [1, 2, None]),
        ([15, 16, 29, 30, 99], "16 to 29=young, 30 to 75=old, others=odd", ["odd", "young", "young", "old", "odd"]),
        ([2.5, 3.0], "3=4", [2.5, 4.0]),
        (["a,b", "c"], '"a,b"=x', ["x", "c"]),
        ([1, 2, 3], "1=2, 2=1", [2, 1, 3]),
        ([1, None], "missing=0", [1, 0]),
        (["1 to 2", "x"], '"1 to 2"=y', ["y", "x"]),
    ],
)
def test_maps_take_whole_values(cells: list[Any], text: str, made: list[Any]) -> None:
    assert recoded(cells, text).cells() == made


def test_others_and_new_reasons() -> None:
    assert recoded([1, 2], "1=5", others="missing").cells() == [5, None]
    assert reasons(recoded([1, 9], "9=missing:refused")) == [None, "refused"]
    with pytest.raises(DataError) as caught:
        recoded(["a", "b", "b"], "a=1", others="refuse")
    assert caught.value.where == '"b" (2)'


@pytest.mark.parametrize("text", ["x", "x:", "x: a", "x: =1", "x: 9 to 1=a", "x: a=1, a=2", "x: a=missing:"])
def test_unclear_maps_are_refused(text: str) -> None:
    with pytest.raises(UsageError):
        parse_map(text)


def test_codes_from_texts_labels_and_turned_scales() -> None:
    source = table(x=["b", "a", None, "b"], f=[0, 3, 1, None], sex=[1, 2, 2, 1], dictionary=SEX)
    for order, codes in (("appearance", [1, 2, None, 1]), ("alphabet", [2, 1, None, 2])):
        made = Recode(to_codes="x", order=order).apply(sources(source)).table
        assert made["x"].cells() == codes
        assert made.dictionary.labels_of("x")[str(codes[0])] == "b"
        back = Recode(to_labels="x").apply(sources(made)).table
        assert back["x"].cells() == ["b", "a", None, "b"]
    assert Recode(to_labels="sex").apply(sources(source)).table["sex"].cells() == ["female", "male", "male", "female"]
    turned = Recode(reverse="f", span="0:3", into="{column}_r").apply(sources(source)).table
    assert turned["f_r"].cells() == [3, 0, 2, None]
    with pytest.raises(DataError, match="1 cell outside 0 to 2"):
        Recode(reverse="f", span="0:2").apply(sources(source))


@pytest.mark.parametrize(
    ("texts", "labels", "codes", "known"),
    [
        (["6", "1 - alert", "3", "1"], {}, [6, 1, 3, 1], {"1": "alert", "3": "3", "6": "6"}),
        (["4", "2", "more"], {}, [4, 2, 5], {"2": "2", "4": "4", "5": "more"}),
        (["2", "0"], {"0": "never", "2": "often"}, [2, 0], {"0": "never", "2": "often"}),
        (["1 - a", "1 - b", "7"], {}, [8, 9, 7], {"7": "7", "8": "1 - a", "9": "1 - b"}),
        (["c", "a"], {"a": "A", "b": "B", "c": "C"}, [3, 1], {"1": "A", "3": "C"}),
    ],
)
def test_texts_that_are_codes_keep_them(
    texts: list[str], labels: dict[str, str], codes: list[int], known: dict[str, str]
) -> None:
    source = table(x=texts, dictionary=Dictionary({"x": Variable(codes="list")}, {"list": labels}))
    made = Recode(to_codes="x").apply(sources(source)).table
    assert (made["x"].cells(), made.dictionary.labels_of("x")) == (codes, known)


@pytest.mark.parametrize(
    ("texts", "labels", "made"),
    [
        (
            ["2; 1", "1", None, "10;2;"],
            {"2": "night"},
            {"x_2": [1, 0, None, 1], "x_1": [1, 1, None, 0], "x_10": [0, 0, None, 1]},
        ),
        (["a b", "a"], {}, {"x_a": [0, 1], "x_a b": [1, 0]}),
        (["a, b", "b, c|d"], {}, {"x_a": [1, 0], "x_b": [1, 1], "x_c|d": [0, 1]}),
    ],
)
def test_several_answers_become_a_column_each(
    texts: list[str | None], labels: dict[str, str], made: dict[str, list[int | None]]
) -> None:
    lists = {"w": labels, "answers": {"1": "yes"}}
    variables = {"x": Variable(label="Watch", codes="w"), "y": Variable(codes="answers")}
    source = table(x=texts, y=texts, dictionary=Dictionary(variables, lists))
    result = Recode(to_answers="x").apply(sources(source))
    assert result.table.names == ["x", *made, "y"]
    assert {name: result.table[name].cells() for name in made} == made
    assert result.account.summary == f"{len(made)} columns added for the answers in x."
    first = next(iter(made))
    assert result.table.dictionary.of(first).label == f"Watch: {labels.get(first[2:], first[2:])}"
    assert result.table.dictionary.labels_of(first) == {"0": "not given", "1": "given"}
    assert result.table.dictionary.of(first).codes == "answers_2"
    assert result.table.dictionary.labels_of("y") == {"1": "yes"}


def test_without_or_with_too_many_answers_there_are_no_columns() -> None:
    result = Recode(to_answers="x").apply(sources(table(x=[None, None], y=[1, 2])))
    assert (result.table.names, result.account.summary) == (["x", "y"], "there are no answers, so no column was added.")
    with pytest.raises(DataError, match="31 different answers in x"):
        Recode(to_answers="x").apply(sources(table(x=[f"K{number};a" for number in range(30)])))


def test_numbers_with_decimals_are_no_codes() -> None:
    with pytest.raises(DataError, match="no codes"):
        Recode(to_codes="x").apply(sources(table(x=["7.5", "8", "none"])))


def test_labels_follow_recoded_values() -> None:
    made = Recode(map=("sex: 1=10, 2=20",)).apply(sources(table(sex=[1, 2], dictionary=SEX))).table
    assert made.dictionary.labels_of("sex") == {"10": "female", "20": "male"}


# -------------------------------------------------------- subset, tally, profile


def test_subset_counts_what_is_left_out() -> None:
    source = table(id=["a", "a", "b", "c"], month=[0, 3, 0, 0], x=[1, None, 3, 4])
    result = Subset(columns="id,x,month", without="month", where="x > 1").apply(sources(source))
    assert rows(result.table) == [("b", 3), ("c", 4)]
    assert parts_of(result.account.balances[0]) == {
        "kept": 2,
        "condition false, left out": 1,
        "condition missing (blank), left out": 1,
    }
    kinds = {note.kind: note for note in Subset(without="month").apply(sources(source)).account.notes}
    assert (kinds["indistinguishable"].column, kinds["indistinguishable"].count) == ("month", 1)
    assert "both" in {note.kind for note in result.account.notes}


@given(st.lists(st.one_of(st.none(), st.integers(0, 3)), min_size=1, max_size=30))
def test_a_tally_counts_every_cell_once(cells: list[int | None]) -> None:
    source = Table({"x": Column.of_cells("integer", cells)})
    result = Tally(variables=("x",)).apply(sources(source))
    counts = dict(zip(result.table["x"].cells(), result.table["cells"].cells(), strict=True))
    assert counts == {value: cells.count(value) for value in set(cells)}
    assert sum(part.count for part in result.account.balances[0].parts) == len(cells)


def test_per_cents_and_crossed_counts_by_hand() -> None:
    source = table(sex=[1, 1, 2, None], ship=["a", "b", "a", "a"], dictionary=SEX)
    lines = Tally(variables=("sex",)).apply(sources(source)).account.listings[0].rows
    assert lines[0] == ("1", "female", 2, "50.0", "66.7", "66.7")
    assert lines[2] == ("missing", "blank", 1, "25.0", "", "")
    counts = Tally(variables=("sex",)).apply(sources(source))
    assert rows(counts.table) == [(1, 2, 50.0, 200 / 3), (2, 1, 25.0, 100 / 3), (None, 1, 25.0, None)]
    assert reasons(counts.table["sex"]) == [None, None, "blank"]
    assert counts.account.facts["counts"][2]["missing"] == "blank"
    crossed = Tally(variables=("sex", "ship"), percent="row", as_labels=True).apply(sources(source)).account.listings[0]
    assert crossed.rows == (
        ("female 1", "1 (50.0)", "1 (50.0)", 2),
        ("male 2", "1 (100.0)", "0 (0.0)", 1),
        ("all", 2, 1, 3),
    )


def test_profile_finds_keys_and_families() -> None:
    source = table(id=["a", "b", "b"], visit=[1, 1, 2], x_m0=[1, 2, 3], x_m3=[1, 2, 3])
    facts = Profile().apply(sources(source)).account.facts
    assert facts["keys"] == ["x_m0", "x_m3"]
    assert Profile().apply(sources(source.only(["id", "visit"]))).account.facts["keys"] == ["id + visit"]
    assert facts["repeated_measures"] == {"x": ["x_m0", "x_m3"]}


@pytest.mark.parametrize(
    ("names", "template"),
    [
        ("id sleep_m0 sleep_m3 hr_m0 hr_m3", "{measure}_m{month}"),
        ("id hours75 hours81 pay75 pay81", "{measure}{occasion}"),
        ("id noise.w1 noise.w2", "{measure}.w{wave}"),
        ("id f1_m0 f1_m6 mood.m0 mood.m6", "{measure}_m{month} {measure}.m{month}"),
        ("id Y2009 Y2010 Y2011", "Y{year}"),
        ("id 2009 2010 2011", "{year}"),
        ("id joined_on sleep_before sleep_after mood_before mood_after", "{measure}_{occasion}"),
        ("id bp_baseline bp_fu1 bp_fu2 x1 x2 y1 y2", "{measure}_{visit}"),
        ("id hearL1 hearR1 hearL2 hearR2", "{measure}{side}{wave}"),
        ("id T1_sleep T2_sleep T12_sleep", "T{time}_{measure}"),
        ("id T1_f1 T1_f2 T2_f1 T2_f2", "T{time}_{measure}"),
        ("id 2019.pay 2020.pay", "{year}.{measure}"),
        ("id Wave~1~-~sleep Wave~2~-~sleep", "Wave {wave} - {measure}"),
        ("id Sleep~(T1) Sleep~(T2) x1 x2", "{measure} (T{time})"),
        ("id sleep~week~1 sleep~week~2", "{measure} week {week}"),
        ("id sleepW1 sleepW2 moodW1 moodW2", "{measure}W{wave}"),
        ("id sleep_6m sleep_12m", "{measure}_{month}m"),
        ("id sleep_bl sleep_6m sleep_12m", "{measure}_{visit}"),
        ("id BL_sleep FU1_sleep FU2_sleep", "{visit}_{measure}"),
        ("id pre_sleep post_sleep pre_mood post_mood", "{occasion}_{measure}"),
        ("id auk_pay tern_pay auk_age tern_age", "{measure}_{occasion}"),
        ("id column_7 column_8 column_9", None),
        ("id f1 f2 f3", None),
        ("id dose_5mg dose_10mg q1_a q1_b", None),
        ("id age sex", None),
    ],
)
def test_families_are_guessed(names: str, template: str | None) -> None:
    guess = guess_families([name.replace("~", " ") for name in names.split()])
    assert (" ".join(guess.templates) if guess else None) == template


@given(st.lists(st.sampled_from([-99, -9, -8, 0, 1, 2, 7, 9, 40, 999, None]), max_size=9), st.integers(0, 9))
def test_codes_are_guessed_of_parts_as_of_the_whole(cells: list[int | None], cut: int) -> None:
    column = Column.of_cells("integer", cells)
    parts = [
        CodeEvidence.of(column.slice(0, min(cut, len(cells)))),
        CodeEvidence.of(column.slice(min(cut, len(cells)), len(cells))),
    ]
    both, codes = parts[0].combine(parts[1]), guess_missing_codes(column, Variable(), {})
    assert [note.count for note in both.make_notes("x", Dictionary())] == (
        [sum(cell in codes for cell in cells)] if codes else []
    )


def test_an_average_over_a_missing_code_is_noted() -> None:
    rows = table("t", Dictionary({"y": Variable(missing={"-9": "refused"})}), g=["a", "b", "a", "B", "b"],
                 x=[3, 4, 5, -9, 2], y=[1, 2, 3, -9, 4])  # fmt: skip
    for step in (
        Aggregate(by="g", stat="x,y: mean"),
        Compare(measure="x,y", between="g"),
        Score(name="s", items="x,y"),
        Report(),
    ):
        notes = step.apply(sources(rows)).account.notes
        assert [(note.column, note.text, note.count) for note in notes if note.kind == "missing-code"] == [
            ("x", "-9 is far from all others and looks like a missing code; if so, use ‹missing_text=-9› or declare it "
                  "in a dictionary.", 1),
        ]  # fmt: skip
    (note,) = [note for note in Aggregate(by="g", stat="x: n").apply(sources(rows)).account.notes if note.column == "g"]
    assert note.text == '"B" and "b" differ only in capitals or spaces, and are different groups.'


def test_rows_without_any_value_are_to_be_left_out() -> None:
    rows = table("t", id=["a", None, "b"], x=["7,5", None, "1"])
    made = Check(key="id").apply(sources(rows), ["draft_ledger"])
    assert made.account.listings[0].rows[0][1:4] == ("empty-row", "—", 1)
    drafted = made.extras["draft_ledger"]
    assert isinstance(drafted, Table)
    lines = {line[0]: line[1:] for line in rows_of(drafted.only(["row", "variable", "action", "why"]))}
    assert lines[3] == ("id", "leave-out", "empty-row: every row has a value; key-missing: every row has a key")
    assert lines[2][2].endswith("if it is, use decimal=,")  # as a plan has it, without the marks of a message
    as_text = drafted.with_columns({**drafted.columns, "row": drafted["row"].widen("string")})
    corrected = Correct(partly=True).apply(correcting(rows, as_text.take(np.array([0])))).table
    assert corrected["id"].cells() == ["a", "b"]
    without = Check(key="id").apply(sources(rows.take(np.array([0, 2])))).account.listings[0].rows
    assert [line[1] for line in without if line[0] == "broken"] == ["text-in-numbers"]


def test_a_list_of_codes_on_the_wrong_variable_is_seen() -> None:
    assert find_misfits(table(sex=[1, 3], dictionary=SEX), SEX) == [("sex", "3", "2 male")]


# ------------------------------------------------------------------- deidentify


def people() -> Table:
    born = [datetime.date(1984, 2, 29), datetime.date(2000, 1, 9), datetime.date(1984, 2, 29)]
    seen = [datetime.date(2024, 1, 8), datetime.date(2024, 5, 1), datetime.date(2024, 4, 8)]
    base = {"id": column(["7", "8", "7"]), "name": column(["Al", "Bo", "Al"])}
    return Table({**base, "born": Column.of_cells("date", born), "seen": Column.of_cells("date", seen)})


def test_names_go_and_the_linkage_leads_back() -> None:
    step = Deidentify(id="id", remove="name", shift="seen")
    made = step.apply(unnaming(people()))
    assert "name" not in made.table.names
    back = dict(zip(made.extras["linkage"]["new_id"].cells(), made.extras["linkage"]["id"].cells(), strict=True))
    assert sorted(back[new] for new in made.table["id"].cells()) == ["7", "7", "8"]
    assert not {"7", "8"} & set(made.table["id"].cells())
    # Distances within a case stay: 91 days from January 8 to April 8 of 2024.
    own = [
        day for new, day in zip(made.table["id"].cells(), made.table["seen"].cells(), strict=True) if back[new] == "7"
    ]
    assert abs((own[0] - own[1]).days) == 91
    # Every date moved, by the days in the linkage.
    days = dict(
        zip(made.extras["linkage"]["new_id"].cells(), made.extras["linkage"]["shifted_days"].cells(), strict=True)
    )
    moved = zip(made.table["id"].cells(), made.table["seen"].cells(), strict=True)
    assert sorted(day - datetime.timedelta(days[new]) for new, day in moved) == sorted(people()["seen"].cells())
    assert all(1 <= abs(count) <= 180 for count in days.values())
    assert step.apply(unnaming(people())).table.same_as(made.table)
    assert not step.apply(unnaming(people(), "t")).table.same_as(made.table)


def test_ages_in_bands_by_hand() -> None:
    made = Deidentify(id="id", coarsen=("born=10",), on_day="2024-01-08").apply(unnaming(people())).table
    # Born on 29 February 1984: 39 on that day. Born on 9 January 2000: a day short of 24.
    assert sorted(made["born"].cells()) == ["20 to 29", "30 to 39", "30 to 39"]
