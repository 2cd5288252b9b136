"""What steps refuse: every error with its place and what to do next, word for word.

The expected output is in the files of the steps in `expected/`, under the settings that are refused.
"""

from __future__ import annotations

from typing import Any

import pytest

from lomrix.core.steps.step import Inputs
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.core.steps import scenes
from tests.core.steps.scenes import (
    ADDED,
    BASE,
    CHANGING,
    CREW,
    DAYS,
    GROUPS,
    ITEMS,
    LATER,
    LINKS,
    LONG,
    NEAR,
    PAIRED,
    PANEL,
    TWICE,
    TWO,
    VISITS,
    WAVES,
    WIDE,
)
from tests.core.steps.test_whole_accounts import EXPECTED, happening, read_sections, sections
from tests.tables import correcting, merging, sources, table, unnaming

SCALES = Dictionary({"x": Variable(codes="c")}, {"c": {"1": "one"}})
DATED = table("dated", id=["a", "b"], day=DAYS[:2], text=["u", "v"], n=[1, 2])
CLASHING = table("clash", id=["a"], sleep_m0=[1], sleep_m00=[2], mood_m0=["x"], mood_m3=[1])
TWICE_LABELLED = table("c", id=["a", "b"], month=[0, 0], x=[1, 2], label=["one", "two"])
TO_WIDE = {**LONG, "header": "{measure}_m{month}"}
KEY = {"key": ("id",)}
F = {"name": "f", "items": "f1..f3"}

Scene = tuple[str, Inputs, dict[str, Any]]
AGGREGATE: list[Scene] = [("aggregate", sources(CREW), one) for one in (
    {"by": ("watch",), "stat": ("sleep: mean",), "header": "{measure}"}, {"by": ("dose * 2",)},
    {"by": ("watch",), "stat": ("sleep",)}, {"by": ("watch",), "stat": ("sleep: man",)}, {"by": ()},
    {"by": ("watch",), "min_n": -1}, {"by": ("wach",)}, {"by": ("watch",), "stat": ("slep: mean",)},
    {"by": ("sleep = dose",)},
    {"by": ("watch",), "stat": ("sleep: n",), "header": "ship_{statistic}", "attach": True},
    {"by": ("watch",), "stat": ("sleep: mean",), "weight": "ship"}, {"by": ("watch",), "deviation": True},
    {"by": ("watch",), "hide_second": True}, {"by": ("watch",), "stat": ("sleep: q101",)},
)]  # fmt: skip
CHANGES: list[Scene] = [("changes", Inputs(old=BASE, new=ADDED), one) for one in (
    {"key": "id", "tolerance": "small"}, {"key": "idd"}, {"key": ""},
)]  # fmt: skip
COMPARE: list[Scene] = [("compare", sources(one), {"measure": measure, **more}) for one, measure, more in (
    (GROUPS, "g", {"between": "g"}), (DATED, "day", {"between": "text"}),
    (TWO, "watch", {"between": "g", "paired_on": "id"}), (GROUPS, "x", {"against": "g"}), (GROUPS, "x", {}),
    (PAIRED, "x", {"between": "wave", "paired_on": "wave"}),
    (table("one", g=["a", "a"], x=[1, 2]), "x", {"between": "g"}),
    (table("t", g=[0, 0, 1], x=[1, 2, 3], id=["a", "a", "b"]), "x", {"between": "g", "paired_on": "id"}),
)]  # fmt: skip
CORRECT: list[Scene] = [
    ("correct", correcting(VISITS, table("ledger", row=["2"], variable=["sleep"])), {}),
    ("correct", correcting(VISITS, table("ledger", row=["2"], variable=["watch"], old=["2"], new=["3"])), {}),
    ("correct", correcting(VISITS, table("ledger", row=["2"], variable=["shift"], old=["2"], new=["3"])), {}),
    ("correct", correcting(VISITS, table("ledger", row=["2"] * 2, variable=["watch"] * 2, old=["1"] * 2,
                                         new=["3", "4"])), {}),
]  # fmt: skip
UNNAME: list[Scene] = [("deidentify", unnaming(DATED), {"id": "id", **one}) for one in (
    {"shift": "n"}, {"coarsen": ("text=10",), "on_day": "2024-01-01"}, {"remove": "id"}, {"on_day": "soon"},
    {"remove": "day", "shift": "day"}, {"coarsen": ("day",)}, {"coarsen": ("day=0",)}, {"id": "idd"},
)]  # fmt: skip
DERIVE: list[Scene] = [("derive", sources(VISITS), one) for one in (
    {"rename": ("watch=sleep",)}, {"expressions": ("a = 1",), "label": ("b=B",)}, {"rename": ("watch",)},
    {"expressions": ("@number = strip(@number)",)}, {"expressions": ("a = 1",), "label": ("a",)},
    {"expressions": ("1 + 1",)}, {"rename_with": "new"}, {"rename": ("watch=a", "sleep=a")}, {},
    {"expressions": ("a = change(sleep)",)}, {"expressions": ("a = nought(sleep)",)}, {"expressions": ("a = 1 +",)},
    {"expressions": ("a = watch.sleep",)}, {"expressions": ("a = id + 1",)}, {"expressions": ("a = id == night",)},
    {"expressions": ("a = mean_of('q1..q3')",)}, {"expressions": ("a = 1",), "after": "x"},
)]  # fmt: skip
EXPORT: list[Scene] = [("export", sources(VISITS), one) for one in (
    {"missing_code": ("=",)}, {"missing_code": ("-9", "-8")}, {"missing_code": ("auto", "auto")},
    {"missing_code": ("sleep.blank=-9", "blank=-9", "sleep.blank=-8")}, {"show_labels": "month"},
    {"delimiter_out": "ab"},
    {"date_form": "%d|%m"}, {"encoding_out": "none"}, {"form": "bare", "missing_code": ("NA",)},
    {"form": "bare", "delimiter_out": ";"}, {"delimiter_out": "blank"}, {"delimiter_out": ",", "decimal_out": ","},
    {"db_type": ("sleep",)}, {"columns": "watch..sleep"}, {"names_max": 2}, {"digits": 99}, {"sort_by": "x"},
)]  # fmt: skip
MERGE: list[Scene] = [
    ("merge", merging(BASE, ADDED, links=LINKS), KEY),
    ("merge", merging(BASE, LATER, links=table("links", old=["a", "a"], id=["A1", "B1"])), {"key": ("id=id",)}),
    ("merge", merging(table("f", old=["a"]), LATER, links=table("links", old=["a", "a"], id=["A1", "B1"])),
     {"key": ("old=id",)}),
    *[("merge", merging(*NEAR), {**KEY, **one}) for one in (
        {"near": "id=id"}, {"near": "day=at", "within": "3d"}, {"near": "day=at", "expect": "one-to-one"},
        {"near": "day"}, {"within": "3"}, {"once": True}, {"near": "day=at", "within": "wide"}, {"side": "before"},
        {"near": "day=at", "overlap": "none"}, {"ties": "first"},
    )],
    *[("merge", merging(BASE, TWICE), one) for one in (
        {"key": ("id=who",), "expect": "many-to-one"}, {"key": ("id=who", "id=x")}, {"key": ("id=",)}, {"key": ()},
        {"key": ("id=who",), "rows": "most"}, {"key": ("id=who",), "take": "y"},
        {"key": ("id=who",), "status": "x"},
        {"key": ("id=who",), "tidy_keys": "accents"}, {"key": ("id=who",), "most_rows": -1}, {"key": ("id=who=x",)},
    )],
    ("merge", merging(BASE, table("b", id=["a"], x=["u"])), KEY),
    ("merge", merging(table("m", k=[1, 1, 1]), table("n", k=[1, 1])), {"key": ("k",), "most_rows": 5}),
    (
        "merge", merging(table("m", k=[1, 1, 1]), table("n", k=[1, 1])),
        {"key": ("k",), "most_rows": 5, "expect": "many-to-many"},
    ),
]  # fmt: skip
RECODE: list[Scene] = [("recode", sources(TWO), one) for one in (
    {"reverse": "ship", "span": "0:3"}, {"to_codes": "g"}, {"to_labels": "g"}, {"map": ("g: =3",)},
    {"map": ("g: 5 to 1=3",)},
    {"map": ("g: 1=3, 1=4",)}, {"map": ("g 1=3",)}, {"map": ("h: 1=3",)}, {"reverse": "g"},
    {"map": ("g: 1=2",), "into": "ship"},
    {"span": "1:2"}, {"map": ("g: 1=2",), "others": "drop"}, {"reverse": "g", "span": "3:1"},
    {"reverse": "g", "span": "3"}, {"map": ("g: 1=2",), "order": "alphabet"}, {"to_codes": "ship", "others": "missing"},
    {"to_answers": "g"}, {"to_answers": "ship", "into": "x"}, {"to_answers": "ship", "to_codes": "ship"},
)]  # fmt: skip
TO_LONG: list[Scene] = [("to-long", sources(one), {"case": "id", **more}) for one, more in (
    (WIDE, {"header": ("{measure}_m",)}), (WIDE, {"header": ("sleep_m{month}",), "value_name": "a,b"}),
    (WIDE, {"header": ("{measure}_m{month}", "{measure}_w{week}")}),
    (CLASHING, {"header": ("{measure}_m{month}",)}),
    (WIDE, {"header": ("{measure}_m{month}", "{measure}_{month}")}), (PANEL, {}), (WIDE, {}),
    (WIDE, {"case": "sleep_m0"}),
    (WIDE, {"header": ("{measure}_m{month}",), "occasions": "3,6,9"}),
    (WIDE, {"header": ("{measure}_m{month}",), "case": "d"}),
    (table("t", id=["a"], x_1=["u"], x_2=[1]), {"header": ("{measure}_{n}",)}), (WIDE, {"header": ("{measure",)}),
    (WIDE, {"header": ("{measure}_m{month}",), "guess": True}),
)]  # fmt: skip
SPREAD: list[Scene] = [("to-wide", sources(one), more) for one, more in (
    (VISITS, {**TO_WIDE, "spread": "sleep", "constant": "sleep"}),
    (VISITS, {"case": "id", "occasion": "id", "header": "{measure}_{id}"}),
    (table("c", id=["a", "a"], month=[0, 3], sex=[1, 1]), TO_WIDE), (CHANGING, {**TO_WIDE, "spread": "x"}),
    (VISITS, {**TO_WIDE, "header": "{measure}_m"}),
    (TWICE_LABELLED, {**TO_WIDE, "label_from": "label", "spread": "x"}),
    (VISITS, {"occasion": "month", "header": "{measure}_{month}"}),
    (VISITS, {**TO_WIDE, "most_columns": 3}), (VISITS, {**TO_WIDE, "header": "m{month}"}),
    (VISITS, {"case": "id", "header": "{measure}_{month}"}),
    (VISITS, {**TO_WIDE, "repeated": "most"}), (VISITS, {**LONG}),
    (table("v", id=["a"], month=[0], x=[1], x_m0=[2]), {**TO_WIDE, "spread": "x", "constant": "x_m0"}),
)]  # fmt: skip
SCORE: list[Scene] = [("score", sources(ITEMS), one) for one in (
    {**F, "reverse": "f9", "span": "0:3"}, {**F, "at_least": 5}, {**F, "reverse": "f2"},
    {"name": "f", "items": "id"}, {},
    {"scale": "mood"}, {**F, "at_least": -1}, {**F, "method": "middle"}, {**F, "name": "f1"}, {"name": "f"},
    {**F, "items": "g1..g3"},
)]  # fmt: skip
STACK: list[Scene] = [("stack", sources(*tables), one) for tables, one in (
    (WAVES, {"pair": ("y=x",)}), ((BASE, table("z", w=[1])), {"columns": "shared"}), (WAVES, {"mark": "x=1,2"}),
    (WAVES, {"mark": "w=a{w}"}),
    (WAVES, {"case": "y"}), (WAVES, {"columns": "some"}), (WAVES, {"pair": ("y",)}),
    (WAVES, {"repeated": "first"}), ((BASE, ADDED, TWICE), {"mark": "w=1,2"}),
    ((table("a", x=[1]), table("b", x=["u"])), {}),
)]  # fmt: skip
OTHERS: list[Scene] = [
    ("subset", sources(TWO), {"without": "@all"}), ("subset", sources(TWO), {"columns": "x*"}),
    ("subset", sources(TWO), {"where": "g"}),
    ("subset", sources(TWO), {"where": "g == '1'"}), ("subset", sources(TWO), {"where": "a +"}),
    ("subset", sources(TWO), {"columns": "ship..g"}),
    ("subset", sources(TWO), {"columns": "g::ix"}), ("tally", sources(TWO), {"variables": ("a", "b", "c")}),
    ("tally", sources(TWO), {}), ("tally", sources(TWO), {"variables": ("g",), "percent": "row"}),
    ("to-balanced", sources(PANEL), {**LONG, "occasions": "early,late"}),
    ("to-balanced", sources(PANEL), {"case": "id"}),
    ("coverage", sources(PANEL), {"case": "id", "occasion": "id"}),
    ("coverage", sources(PANEL), {**LONG, "measure": "y"}),
    ("check", sources(CREW), {"key": "idd"}), ("profile", sources(CREW), {"sort": "type"}),
    ("report", sources(TWO), {"measure": "ship"}),
    ("check", sources(table("r", Dictionary(rules={"odd": "x +"}), x=[1])), {}),
    ("profile", sources(CREW), {"sortt": "name"}),
    ("export", sources(VISITS, BASE), {}), ("recode", sources(table("s", SCALES, x=[1])), {"to_codes": "x"}),
    ("check", sources(CREW), {"case": "idd"}),
]  # fmt: skip
SCENES = [*AGGREGATE, *CHANGES, *COMPARE, *CORRECT, *UNNAME, *DERIVE, *EXPORT, *MERGE, *RECODE, *TO_LONG, *SPREAD,
          *SCORE, *STACK, *OTHERS]  # fmt: skip


def title(number: int) -> str:
    """The settings of a scene, with a number if they are refused more than once."""
    word, _, settings = SCENES[number]
    before = sum(scene[0] == word and scene[2] == settings for scene in SCENES[:number])
    return f"refused {settings}" + (f" ({before + 1})" if before else "")


@pytest.mark.parametrize("number", range(len(SCENES)), ids=lambda number: f"{SCENES[number][0]} {title(number)}")
def test_what_is_refused_and_why(number: int) -> None:
    word, inputs, settings = SCENES[number]
    lines = happening(word, inputs, settings)
    assert lines == sections(word)[title(number)]
    assert lines[0].startswith("error ")


def test_every_section_has_its_scene() -> None:
    expected = {(path.stem, title) for path in EXPECTED.glob("*.txt") for title in read_sections(path)}
    refused = {(scene[0], title(number)) for number, scene in enumerate(SCENES)}
    assert expected == {(scene[0], name) for name, scene in scenes.SCENES.items()} | refused
