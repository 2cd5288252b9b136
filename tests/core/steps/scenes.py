"""Scenes: what steps are asked to do with tables that are small enough to be worked out by hand."""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import Any

import numpy as np

from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.wording import split_list
from tests.tables import column, correcting, merging, sources, table, unnaming

KNOWN = Dictionary(
    {"watch": Variable(codes="watches", label="Watch"), "sleep": Variable(label="Sleep", unit="min")},
    {"watches": {"1": "day", "2": "night", "3": "split"}},
)
CREW = table(
    "crew", KNOWN,
    id=["a", "b", "c", "d", "e"], watch=[1, 2, 2, 9, None], ship=["tern", "Tern", "gull", "gull", "gull"],
    sleep=[400, 420, None, 999, 410], dose=[1.0, 2.0, 2.5, 4.0, None],
)  # fmt: skip
VISITS = table(
    "visits", KNOWN, id=["a", "a", "b", "b"], month=[0, 3, 0, 3], watch=[1, 2, 2, 9], sleep=[400, 420, None, 390]
)
ITEMS = table("items", id=["a", "b", "c", "d", "e"], f1=[3, 2, 0, 1, None], f2=[0, 1, 3, 1, 2], f3=[3, 3, 0, None, 2])
TWO = table(
    "two", KNOWN, id=list("abcdef"), watch=[1, 1, 2, 2, None, 1], g=[1, 1, 1, 2, 2, 2],
    ship=["gull", "tern", "tern", "gull", "gull", "tern"],
)  # fmt: skip
WAVES = (table("w0", KNOWN, id=["a", "b"], sleep=[400, None], x=[1, 2]),
         table("w6", KNOWN, id=["b", "c"], sleep=[390, 380], y=["u", None]))  # fmt: skip
GROUPS = table("p", g=["u", "u", "u", "v", "v", "v"], x=[1, 2, 3, 4, 6, 8])
SLOPES = table("s", g=["u", "u", "u", "v", "v", "v"], x=[1, 2, 3, 4, 6, 8], y=[1, 2, 4, 3, 2, None])
PAIRED = table("q", id=list("aabbccd"), wave=[0, 1, 0, 1, 0, 1, 0], x=[1, 3, 2, 3, 4, 8, 9])
OLD, NEW = table("o", id=["a", "b", "c"], x=[1, 2, 3]), table("n", id=["a", "c", "d"], x=[1, 5, 6])
PEOPLE = table(
    "crew", id=["K1", "K2", "K3", "K2"], surname=["Anna Berg", "Boris", "Cyra", "Boris"], age=[31, 44, 59, 44],
    remark=["Boris came late", "z", "x", "y"], ship=["tern", "gull", "gull", "gull"],
)  # fmt: skip
LEDGER = table("ledger", row=["3", "4"], variable=["sleep"] * 2, old=["420", ""], action=["set"] * 2,
               new=["405", "380"], why=["typo", "found"])  # fmt: skip
OPEN = table("ledger", row=["3", "5", "2", "4"], id=[None, "b", None, "b"], variable=["sleep", "watch", None, "watch"],
             old=["420", "9", None, "2"], action=["set", "missing", "leave-out", "note"],
             new=["420", "refused", None, None], why=[None, None, "double", "asked"])  # fmt: skip
WRONG = table("ledger", row=["3", "9", None, "2"], id=["b", None, "a", "a"], variable=["sleep"] * 3 + ["slep"],
              old=["420"] * 4, action=["set", "set", "set", "turn"], new=["1"] * 4)  # fmt: skip
BASE = table("base", id=["a", "b", "c", None], x=[1, 2, 3, 4])
ADDED = table("add", id=["a", "b", "d"], y=[10, None, 30])
TWICE = table("twice", KNOWN, who=["a", "a", "B", "a1"], x=[1, 5, 2, 9], watch=[1, 2, 2, 1])
LINKS = table("links", old=["a", "b", "x"], id=["A1", "B1", "C9"])
LATER = table("later", id=["A1", "B1"], z=[1, 2])
DAYS = [datetime.date(2024, 3, day) for day in (1, 5, 20)]
NEAR = (table("seen", id=["a", "a", "b"], day=[1.0, 10.0, 4.0]), table("drawn", id=["a", "a", "b"], at=[2, 9, 40]))
WIDE = table("wide", id=["a", "b"], sex=[1, 2], sleep_m0=[400, None], sleep_m3=[420, 390])
SEVERAL = table(
    "several", Dictionary({"pulse_3": Variable(label="Pulse, spring")}),
    id=["a", None], pulse_12=[70, 71], pulse_3=[60.5, None], mood_12=[1, 2], note=["x", "y"],
)  # fmt: skip
CHANGING = table("c", id=["a", "a"], month=[0, 3], sex=[1, None], x=[1, 2], label=["one", "two"])
PANEL = table("v", id=["a", "a", "b"], month=[0, 3, 0], sex=[1, 1, 2], x=[5, 6, 7])
SLIPS = table("slips", id=["a", "a", "b", "b", "b", None], month=[3, 12, 3, 12, 12, 3], sex=[1, 1, 2, 1, None, 1],
              x=[5, 6, 7, 8, 10, 1])  # fmt: skip
CASES = table("slips", id=list("aabbb"), month=[3, 12, 3, 12, 12], sex=[1, 1, 2, 1, None], x=[5, 6, 7, 8, 10])
LONG = {"case": "id", "occasion": "month"}
NAMED = table("Münch", KNOWN, participant_number=["ä", "b"], participant_name=["x", None], sleep=[400, None])

# Twenty-four rows with one slip of each kind.
CASE_IDS = [f"K{row // 2:02}" for row in range(24)]
SLIP = table(
    "slip",
    Dictionary(
        {"sex": Variable(level="case", codes="sexes"), "age": Variable(minimum=16, maximum=70, label="Age"),
         "low": Variable(minimum=0), "day": Variable(maximum=datetime.date(2024, 12, 31)),
         "count": Variable(type="integer")},
        {"sexes": {"1": "woman", "2": "man"}},
        {"older": "age > low", "scored": "sum_of('low,count') >= 0", "spoken": "remark != 'x'"},
    ),
    id=["K1-1", *CASE_IDS[1:]], month=[0, 3] * 12, sex=[1, 1, 2, 2, 1, 2, 3, 1] * 3,
    age=[20 + row for row in range(22)] + [71, 15], low=[*range(1, 23), -5, 3],
    far=[10.0 + row % 4 for row in range(23)] + [99.5],
    code=[*range(23), -99], count=[*[1.0] * 23, 2.5], mixed=[*[float(row) for row in range(23)], 7.5],
    day=[datetime.date(2024, 3, 1 + row) for row in range(23)] + [datetime.date(2025, 1, 1)],
    text=[*map(str, range(22)), "15 est", None],
    dated=[*[f"2024-03-{10 + row}" for row in range(20)], "soon", "2024-03-31", None, "?"],
    remark=["x ", *"bcdefghijklmnopqrstuvw", " y"], comma=[*["1,5"] * 20, *"1234"],
)  # fmt: skip
CRUISES = table("cruises", KNOWN, ship=["tern", "tern", "gull", None, None, "gull"], watch=[1, 2, 2, 2, 9, None],
                sleep=[400, 420, 380, None, None, 410], w=[1.0, 2.0, None, 1.0, 1.0, 0.5],
                at=[f"port {row}" for row in range(6)])  # fmt: skip
LISTED = Dictionary({"ship": Variable(codes="ships"), "way": Variable(codes="ways")},
                    {"ships": {"7": "tern", "9": "gull"}, "ways": {"h": "home", "o": "out", "w": "else"}})  # fmt: skip
TURNED = Dictionary(
    {"f": Variable(codes="c", minimum=0, maximum=3)}, {"c": {"0": "never", "1 to 2": "some", "3": "always"}}
)
LONG_NAMES = split_list(
    "participant_number, participant_name, sleep_minutes_m0, sleep_minutes_m12, sleep_quality_m0, x, X, 2nd, "
    "sleepMinutesAwake, sleep_minutes_awake_at_night, ae io, measurement_of_20241231"
)
LONGEST = Table({name: column([1, 2]) for name in LONG_NAMES}, name="n")
IDENTIFYING = table(
    "identifying", id=[f"K{row}" for row in range(12)],
    day=[datetime.date(2024, 3, 1 + row) for row in range(12)],
    number=[1000 + 37 * row for row in range(12)],
    note=[f"was seen on board by mate {row} at night" for row in range(12)],
    ship=["tern", "gull"] * 6,
)  # fmt: skip
EMPTY = table("empty", KNOWN, id=["a", "b", "c"], watch_m0=[1, None, None], watch_m3=[2, None, None], other_x=[1, 2, 3])
# 21 rows: as many different texts, six measures with a word in common, seven without, slips of each kind.
PULSES = [f"pulse_m{month}" for month in (0, 3, 6, 9, 12, 15)]
MOODS = [f"mood_m{month}" for month in (0, 3, 6, 9, 12, 15, 18)]
BUSY = table(
    "busy",
    Dictionary({name: Variable(label=f"Pulse at rest {at + 1}") for at, name in enumerate(PULSES)}
               | {"kind": Variable(codes="kinds")}, {"kinds": {"0": "none"}}),
    id=list(range(101, 122)), port=[f"port {row:02}" for row in range(21)], kind=list(range(21)),
    hours=[2.5, *[8.0] * 20], age=[-9, 999] * 6 + [30 + row for row in range(9)],
    half=[f"port {row % 20:02}" for row in range(21)],
    **{name: [60 + row % 3 for row in range(21)] for name in PULSES},
    **{name: [row % 2 for row in range(21)] for name in MOODS},
)  # fmt: skip
BOTH = table("both", KNOWN, ship=["auk", "gull", None, "tern", "tern", None], watch=[None, 1, None, 2, 9, 3],
             g=[1, 1, 2, 2, None, 2])  # fmt: skip
GAPS = table(
    "gaps", KNOWN, id=["a", "a", "b", "b", None, "c", "d"], month=[0, 3, 0, 3, 0, None, 3],
    sleep=[400, None, 405, 390, 380, 370, None], ship=["auk", "auk", "tern", "tern", "auk", "tern", "tern"],
    age=[31, 31, 44, 44, 31, 29, 600], ok=[True, True, False, None, True, False, False],
)  # fmt: skip
GAPS = GAPS.with_columns({**GAPS.columns, "sleep": GAPS["sleep"].with_missing(np.arange(7) == 2, "refused")})
LETTERS = Dictionary(
    {"straße": Variable(label="Straße", unit="°C", description="gemäß Plan", codes="wäge")}, {"wäge": {"1": "früh"}}
)
PLACES = table("places", LETTERS, straße=[1, 1, 2], ort=["Ødegård", "Odegard", "Tern"], größe=[1.5, None, 2.0],
               zeit=[1, 3, 2])  # fmt: skip
TIMESTAMPS = Table(
    {"at": Column.of_cells("datetime", [datetime.datetime(2024, 3, 5, 14, 7), None]),
     "day": Column.of_cells("date", [None, DAYS[0]]), "x": column([None, 5])}, name="timestamps",
)  # fmt: skip
KEYS = table("keys", id=[1, 1, 2, 3, 3, 3, 4, None, 5, 6, None], n=[None] * 6 + [1, 2, 3, 4, 5])
ALIKE = Table({name: column([1, 2]) for name in split_list(
    "measurement_of_pressure, measurement_of_pressures, measurement_of_pressured, aeiou_aeiou_aeiou, w12345678901"
)}, name="alike")  # fmt: skip
AGAIN = table(
    "again", KNOWN, id=list("aaabbb"), month=[0, 0, 3, 0, 0, 3], x=[1, 2, 5, None, 4, 6], word=list("uvwuuw"),
    sleep=[400, None, None, None, None, 390],
)  # fmt: skip
EIGHT = Table(
    {"site": column(["auk", "auk", "tern"]), "id": column([1, 2, 1]),
     **{f"x_m{month}": column([month, None, None]) for month in range(8)},
     "day_m0": Column.of_cells("date", [DAYS[0], DAYS[1], None]),
     "day_m7": Column.of_cells("datetime", [datetime.datetime(2024, 3, 5, 14, 7), None, None]),
     "y_m0": column([1, 2, None]), "y_m7": column([1.5, 3.0, None]), "sex": column([1, 2, 1])}, name="eight",
)  # fmt: skip
TURNING = {"case": "site,id", "header": "{measure}_m{month}"}
SCENES: dict[str, tuple[str, Inputs, dict[str, Any]]] = {
    "profile": ("profile", sources(CREW), {}),
    "profile by name": ("profile", sources(SEVERAL), {"sort": "name"}),
    "profile of a cell": ("profile", sources(table("one", id=["a"])), {}),
    "profile of much": ("profile", sources(BUSY), {}),
    "tally": ("tally", sources(CREW), {"variables": ("watch",)}),
    "tally of labels": ("tally", sources(CREW), {"variables": ("watch",), "as_labels": True}),
    "tally crossed with rows that have neither": ("tally", sources(BOTH), {"variables": ("ship", "watch")}),
    "tally crossed by label": ("tally", sources(BOTH),
    {"variables": ("ship", "watch"), "percent": "row", "as_labels": True}),
    "tally by a group that is missing": ("tally", sources(BOTH), {"variables": ("watch",), "by": ("g",)}),
    "tally crossed": ("tally", sources(TWO), {"variables": ("watch", "ship"), "percent": "row", "as_labels": True}),
    "tally crossed by column": ("tally", sources(TWO), {"variables": ("ship", "watch"), "percent": "column"}),
    "tally by group": ("tally", sources(TWO), {"variables": ("ship",), "by": ("g",)}),
    "tally of what is not there": ("tally", sources(TWO), {"variables": ("shp",)}),
    "tally of labelled codes": ("tally", sources(CRUISES), {"variables": ("watch", "ship")}),
    "tally of what is missing": ("tally", sources(CRUISES), {"variables": ("ship",), "as_labels": True}),
    "tally of labels by group": ("tally", sources(CRUISES),
    {"variables": ("ship",), "by": ("watch",), "as_labels": True}),
    "coverage": ("coverage", sources(VISITS), LONG),
    "coverage with gaps": ("coverage", sources(SLIPS), {**LONG, "measure": "x"}),
    "check": ("check", sources(VISITS), {"key": "id,month"}),
    "check of a panel": ("check", sources(SLIPS), {"key": "id,month", "case": "id"}),
    "check of everything": ("check", sources(SLIP), {"key": "id,month", "case": "id"}),
    "check of nothing": ("check", sources(BASE.only(["x"])), {}),
    "correct": ("correct", correcting(VISITS, LEDGER), {}),
    "correct in several ways": ("correct", correcting(VISITS, OPEN), {}),
    "correct wrongly": ("correct", correcting(VISITS, WRONG), {}),
    "correct partly": ("correct", correcting(VISITS, WRONG), {"partly": True}),
    "recode": ("recode", sources(VISITS), {"map": ("watch: 1=10, 2=20, 9=missing:refused",)}),
    "recode ranges into a new column": (
        "recode", sources(VISITS),
        {"map": ("sleep: 300 to 400=short, 400 to 500=long, 999=none",), "into": "{column}_w"},
    ),
    "recode some": ("recode", sources(VISITS), {"map": ("watch: 1=low",)}),
    "recode others away": ("recode", sources(VISITS), {"map": ("watch: 1=1, 2=1",), "others": "missing"}),
    "recode refuses others": ("recode", sources(VISITS), {"map": ("watch: 1=1",), "others": "refuse"}),
    "recode to codes": ("recode", sources(TWO), {"to_codes": "ship"}),
    "recode to codes in order": (
        "recode", sources(TWO), {"to_codes": "ship", "order": "alphabet", "into": "{column}_n"}
    ),
    "recode to labels": ("recode", sources(VISITS), {"to_labels": "watch"}),
    "recode to codes that the dictionary has": (
        "recode", sources(table("l", LISTED, ship=["gull", "tern", "gull", None],
        way=["out", "home", "out", "home"])),
        {"to_codes": "ship,way"},
    ),
    "recode to codes that texts begin with": (
        "recode", sources(table("o", way=["9 = other", "0 = foot", None, "9 = other"])), {"to_codes": "way"}
    ),
    "recode to codes as they come": ("recode", sources(table("o", way=["x", "b", "x", "a"])), {"to_codes": "way"}),
    "recode turned with labels": (
        "recode", sources(table("t", TURNED, f=[0, 1, 2, 3], g=[0.5, 3.0, None, 1.0])),
        {"reverse": "f,g", "span": "0:3"}
    ),
    "recode turned": ("recode", sources(ITEMS), {"reverse": "f2", "span": "0:3"}),
    "recode turned beyond its span": ("recode", sources(ITEMS), {"reverse": "f2", "span": "0:2"}),
    "recode nothing": ("recode", sources(VISITS), {}),
    "recode overlapping": ("recode", sources(VISITS), {"map": ("sleep: 1 to 5=1, 3 to 9=2",)}),
    "recode without reason": ("recode", sources(VISITS), {"map": ("watch: 9=missing",)}),
    "recode twice": ("recode", sources(VISITS), {"map": ("watch: 9=1", "watch: 1=2")}),
    "subset": ("subset", sources(TWO), {"where": "watch == 1 or g == 2", "columns": "id,w*,g"}),
    "subset that loses a distinction": ("subset", sources(VISITS), {"where": "month >= 0", "without": "month"}),
    "subset without": ("subset", sources(TWO), {"where": "watch == 2", "without": "ship"}),
    "deidentify": ("deidentify", unnaming(PEOPLE), {"id": "id", "remove": "surname", "quasi_identifiers": "age,ship"}),
    "deidentify what may identify": ("deidentify", unnaming(IDENTIFYING), {"id": "id"}),
    "deidentify by moving": (
        "deidentify", unnaming(table("d", id=["a", "a", None], born=[DAYS[0], DAYS[0], DAYS[1]],
        seen=DAYS, n=[1, 2, 3])),
        {"id": "id", "shift": "born,seen", "quasi_identifiers": "n"},
    ),
    "deidentify coarsely": (
        "deidentify", unnaming(table("d", id=["a", "b"], born=DAYS[:2], n=[1, 2])),
        {"id": "id", "coarsen": ("born=10",), "on_day": "2024-12-31", "same_folder": True},
    ),
    "merge": ("merge", merging(BASE, ADDED), {"key": ("id",)}),
    "merge the matched": ("merge", merging(BASE, ADDED), {"key": ("id",), "rows": "matched", "status": "from"}),
    "merge several into the base": (
        "merge", merging(BASE, ADDED, table("third", id=["a", "c"], z=[1, 2])),
        {"key": ("id",), "rows": "base", "status": "from"},
    ),
    "merge by a key that one has not": ("merge", merging(BASE, TWICE), {"key": ("id",)}),
    "merge keys of other names": (
        "merge", merging(BASE, TWICE), {"key": ("id=who",), "expect": "one-to-many", "overlap": "both", "status": "s"}
    ),
    "merge against what is expected": ("merge", merging(BASE, TWICE), {"key": ("id=who",), "expect": "one-to-one"}),
    "merge what differs": ("merge", merging(TWO, VISITS), {"key": ("id",), "expect": "one-to-many"}),
    "merge what differs, the added": (
        "merge", merging(TWO, table("more", KNOWN, id=["a", "b"], watch=[2, None], g=[1, 7])),
        {"key": ("id",), "overlap": "added"},
    ),
    "merge what differs, checked": (
        "merge", merging(TWO, table("more", KNOWN, id=["a", "b"], watch=[2, None], g=[1, 7])), {"key": ("id",)}
    ),
    "merge tidied": (
        "merge", merging(table("b", id=["a ", "B", "c"], x=[1, 2, 3]), table("a", id=["a", "b", "d"], y=[1, 2, 3])),
        {"key": ("id",), "tidy_keys": "spaces,case"},
    ),
    "merge what tidying makes equal": (
        "merge", merging(table("b", id=["a ", "A"], x=[1, 2]), table("a", id=["a"], y=[1])),
        {"key": ("id",), "tidy_keys": "spaces,case"},
    ),
    "merge through links": ("merge", merging(table("f", old=["a", "b", "c"], x=[1, 2, 3]), LATER, links=LINKS),
                            {"key": ("old=id",)}),
    "merge the nearest": (
        "merge", merging(*NEAR), {"key": ("id",), "near": "day=at", "within": "3", "expect": "many-to-one"}
    ),
    "merge the nearest after, once": (
        "merge", merging(*NEAR), {"key": ("id",), "near": "day=at", "within": "9", "once": True, "side": "after"}
    ),
    "merge keys of two types": ("merge", merging(table("m", k=[1]), table("n", k=["a"])), {"key": ("k",)}),
    "merge without a key": ("merge", merging(BASE, ADDED), {"key": ("pid",)}),
    "stack": ("stack", sources(*WAVES), {"mark": "wave=0,6"}),
    "stack the shared": ("stack", sources(*WAVES), {"columns": "shared"}),
    "stack repeating": ("stack", sources(*WAVES), {"case": "id"}),
    "stack paired": ("stack", sources(*WAVES), {"pair": ("y=s", "x=s"), "mark": "wave=0,6"}),
    "stack with a mark that is not clear": ("stack", sources(*WAVES), {"mark": "wave="}),
    "stack without repeats": (
        "stack", sources(WAVES[0], replace(WAVES[0], name="again")), {"repeated": "first", "case": "id"}
    ),
    "stack with likely pairs": (
        "stack", sources(table("a", id=[1], sleep_minutes=[2]), table("b", id=[2], sleepminutes=[3])),
        {"mark": "w=0.5,1"}
    ),
    "stack with rules and labels": (
        "stack",
        sources(table("a", Dictionary({"x": Variable(label="X", codes="c")}, {"c": {"1": "one"}},
        {"r": "x > 0"}), x=[1]),
                table("b", Dictionary({"y": Variable(label="Y", codes="c")}, {"c": {"2": "two"}}), y=[2])),
        {"pair": ("y=x",)},
    ),
    "stack too few marks": ("stack", sources(*WAVES), {"mark": "wave=0"}),
    "to long": ("to-long", sources(WIDE), {"case": "id", "header": ("{measure}_m{month}",)}),
    "to long, several": (
        "to-long", sources(SEVERAL), {"case": "id", "header": ("{measure}_{month}",), "keep_empty": True}
    ),
    "to long of nobody": ("to-long", sources(EMPTY), {"case": "id", "header": ("{measure}_m{month}",)}),
    "to long, words set aside": ("to-long", sources(EMPTY), {"case": "id", "header": ("{measure}_{when}",)}),
    "to long by row": ("to-long", sources(WIDE), {"header": ("{measure}_m{month}",), "constant": "sex",
                                                   "occasions": "3,0"}),
    "to long at other occasions": (
        "to-long", sources(WIDE), {"case": "id", "header": ("{measure}_m{month}",), "occasions": "0,6"}
    ),
    "to long, no such header": ("to-long", sources(WIDE), {"case": "id", "header": ("{measure}.{month}",)}),
    "to long, guessed": ("to-long", sources(WIDE), {"guess": True}),
    "to wide": ("to-wide", sources(VISITS), {**LONG, "header": "{measure}_m{month}"}),
    "to wide with slips": (
        "to-wide", sources(CASES),
        {**LONG, "header": "{measure}_m{month}", "constant": "sex", "if_changing": "commonest", "repeated": "mean"},
    ),
    "to wide, repeated": ("to-wide", sources(CASES), {**LONG, "header": "{measure}_m{month}"}),
    "to wide in a way that is not": (
        "to-wide", sources(VISITS), {**LONG, "header": "{measure}_m{month}", "if_changing": "most"}
    ),
    "to wide without a case": ("to-wide", sources(SLIPS), {**LONG, "header": "{measure}_m{month}"}),
    "to wide, changing": (
        "to-wide", sources(VISITS), {**LONG, "header": "{measure}_m{month}", "constant": "watch", "spread": "sleep"}
    ),
    "to wide with labels": (
        "to-wide", sources(CHANGING),
        {**LONG, "header": "{measure}_m{month}", "label_from": "label", "spread": "x", "constant": "sex"},
    ),
    "to balanced": ("to-balanced", sources(PANEL), LONG),
    "to balanced, whole cases": ("to-balanced", sources(PANEL), {**LONG, "only_whole": True}),
    "derive": (
        "derive", sources(VISITS),
        {"expressions": ("h = round(sleep / 60, 1)", "night = watch == 2", "z = 1 / month"),
         "rename": ("watch=shift",), "after": "id"},
    ),
    "derive in place": (
        "derive", sources(VISITS),
        {"expressions": ("sleep = sleep / 60", "c = change(sleep)"), "replace": True, "unit": ("sleep=h",),
         "label": ("c=Change of sleep",), "rename_with": "{old}_w2", **LONG},
    ),
    "derive codes and nothing": (
        "derive", sources(VISITS),
        {"expressions": ("band = bands(sleep, 400, 410)", "lost = missing('lost')", "twice = month + month")},
    ),
    "derive many at once": (
        "derive", sources(VISITS), {"expressions": ("month,sleep as {old}_half = month,sleep / 2",), "after": "month"}
    ),
    "derive anew from codes": (
        "derive", sources(VISITS), {"expressions": ("watch = first_present(watch, month)",), "replace": True}
    ),
    "derive names alone": ("derive", sources(VISITS), {"rename": ("sleep=minutes", "month=at")}),
    "derive names that clash": (
        "derive", sources(VISITS), {"rename": ("sleep=watcha",), "rename_with": "watch: {old}a"}
    ),
    "derive a name that is there": ("derive", sources(VISITS), {"expressions": ("sleep = 1",)}),
    "derive from what is not there": ("derive", sources(VISITS), {"expressions": ("h = slep / 60",)}),
    "score": (
        "score", sources(ITEMS),
        {"name": "f", "items": "f1..f3", "reverse": "f2", "span": "0:3", "method": "mean", "at_least": 2},
    ),
    "score of a sum from some": ("score", sources(ITEMS), {"name": "f", "items": "f1..f3", "at_least": 2}),
    "score, not turned": ("score", sources(ITEMS), {"name": "f", "items": "f1..f3", "span": "0:3"}),
    "score beyond the span": ("score", sources(ITEMS), {"name": "f", "items": "f1..f3", "span": "0:2"}),
    "aggregate": ("aggregate", sources(GROUPS), {"by": ("g",), "stat": ("x: mean",)}),
    "aggregate in many ways": (
        "aggregate", sources(CREW),
        {"by": ("watch",), "stat": ("sleep: n mean", "dose: sum q25", "ship: first share(gull)"), "totals": True,
         "missing_group": "own", "empty_groups": False, "header": "{statistic}_{measure}"},
    ),
    "aggregate with empty groups": ("aggregate", sources(TWO), {"by": ("watch",), "empty_groups": True}),
    "aggregate and hide": (
        "aggregate", sources(TWO), {"by": ("g", "ship"), "stat": ("watch: mean n",), "min_n": 2, "hide_second": True}
    ),
    "aggregate beside": (
        "aggregate", sources(GROUPS), {"by": ("g",), "stat": ("x: max",), "attach": True, "deviation": True}
    ),
    "aggregate in bands": ("aggregate", sources(GROUPS), {"by": ("band = bands(x, 3, 5)",), "stat": ("x: n",)}),
    "aggregate weighted": (
        "aggregate", sources(table("w", g=[1, 1, 2, 2], x=[2.0, 4.0, 6.0, None], n=[1, 3, 2, 5])),
        {"by": ("g",), "stat": ("x: mean sum sd n missing",), "weight": "n"},
    ),
    "aggregate dates and ties": (
        "aggregate", sources(table("t", g=["a", "a", "b"], day=DAYS, who=["x", "y", None])),
        {"by": ("g",), "stat": ("day: min median", "who: commonest distinct last")},
    ),
    "aggregate a group by what is missing": (
        "aggregate", sources(CREW), {"by": ("watch", "ship"), "missing_group": "own"}
    ),
    "aggregate nearly every row": ("aggregate", sources(CREW), {"by": ("dose",), "stat": ("sleep: ci",)}),
    "aggregate with weights and missing keys": (
        "aggregate", sources(CRUISES),
        {"by": ("ship",), "stat": ("sleep: mean share(380) share(7)",), "weight": "w", "missing_group": "own",
         "totals": True},
    ),
    "aggregate by two with totals": ("aggregate", sources(CRUISES), {"by": ("ship", "watch"), "totals": True}),
    "aggregate what is continuous": (
        "aggregate", sources(table("c", x=[row / 4 for row in range(50)], y=[1, 2] * 25)),
        {"by": ("x",), "stat": ("y: mean sd",)},
    ),
    "aggregate to draw": (
        "aggregate", sources(VISITS), {"by": ("watch", "month"), "stat": ("sleep: mean ci",), "missing_group": "own"}
    ),
    "aggregate texts": ("aggregate", sources(TWO), {"by": ("g",), "stat": ("ship: mean",)}),
    "report": ("report", sources(CASES), {**LONG, "measure": "x", "by": "sex", "min_n": 1, "title": "Slips"}),
    "report of gaps": ("report", sources(GAPS), {**LONG, "measure": "sleep", "by": "ship", "min_n": 1}),
    "report of gaps, hidden": ("report", sources(GAPS), {**LONG, "measure": "sleep", "min_n": 2}),
    "report of values": ("report", sources(CREW), {}),
    "compare": ("compare", sources(GROUPS), {"measure": "x", "between": "g"}),
    "compare three groups": ("compare", sources(SLIPS), {"measure": "x,sex", "between": "id", "as_numbers": True}),
    "compare waves of one": ("compare", sources(PAIRED), {"measure": "x", "between": "id"}),
    "compare pairs": ("compare", sources(PAIRED), {"measure": "x", "between": "wave", "paired_on": "id"}),
    "compare codes": ("compare", sources(TWO), {"measure": "watch", "between": "g"}),
    "compare adjusted": ("compare", sources(SLOPES), {"measure": "x", "between": "g", "adjust": "y"}),
    "compare slopes": ("compare", sources(SLOPES), {"measure": "x", "between": "g", "against": "y"}),
    "changes": ("changes", Inputs(old=OLD, new=NEW), {"key": "id"}),
    "changes of many kinds": (
        "changes",
        Inputs(old=table("o", KNOWN, id=["a", "b"], x=[1.0, 2.0], y=["u", None], watch=[1, 2]),
               new=table("n", KNOWN, id=["b", "a"], x=[2.0 + 1e-12, 1.5], y=["v", "u"], z=[1, 2])),
        {"key": "id", "tolerance": "0.001"},
    ),
    "changes of the dictionary": (
        "changes",
        Inputs(old=table("o", Dictionary({"x": Variable(label="X", unit="m", codes="c")}, {"c": {"1": "one"}}),
        id=["a", None], x=[1, 2]),
               new=table("n", Dictionary({"x": Variable(label="Ex", codes="c")}, {"c": {"1": "uno", "2": "two"}}),
               id=["a", None], x=[1, 2])),
        {"key": "id", "list": "all"},
    ),
    "wide, of rows that are added up": ("to-wide", sources(AGAIN),
    {**LONG, "header": "{measure}_m{month}", "repeated": "sum"}),
    "wide, of the first of several rows": ("to-wide", sources(AGAIN),
    {**LONG, "header": "{measure}_m{month}", "repeated": "first"}),
    "long, of eight occasions": ("to-long", sources(EIGHT), {**TURNING, "constant": "sex"}),
    "long, with empty rows": ("to-long", sources(EIGHT), {**TURNING, "keep_empty": True}),
    "wide again": ("to-wide", sources(ToLong(**TURNING, keep_empty=True).apply(sources(EIGHT)).table), {}),
    "long again": ("to-long", sources(ToWide(**LONG, header="{measure}_m{month}").apply(sources(PANEL)).table), {}),
    "changes of nothing": ("changes", Inputs(old=GROUPS.only(["x"]), new=GROUPS.only(["x"])), {"key": "x"}),
    "changes of a key that repeats": ("changes", Inputs(old=TWICE, new=TWICE), {"key": "who"}),
    "bare": ("export", sources(VISITS), {"form": "bare", "missing_code": ("-9",)}),
    "headed": (
        "export", sources(VISITS),
        {"form": "headed", "missing_code": ("auto",), "show_labels": "watch", "columns": "id,watch,sleep"},
    ),
    "headed, with short plain names": (
        "export", sources(NAMED), {"form": "headed", "names_max": 12, "ascii": True, "sort_by": "sleep"}
    ),
    "headed, with names of eight characters": (
        "export", sources(LONGEST), {"form": "headed", "names_max": 8}
    ),
    "bare, with dates and codes": (
        "export",
        sources(table("b", KNOWN, day=DAYS, way=["out", None, "home"], watch=[1, 2, None], ok=[True, False, None])),
        {"form": "bare", "missing_code": ("auto",)},
    ),
    "a package": ("export", sources(CREW.only(["id", "watch", "ship"]), ITEMS),
    {"form": "package", "primary_key": "id,ship", "missing_code": ("-9",)}),
    "a package without its key": ("export", sources(CREW, ITEMS), {"form": "package", "primary_key": "id,shipp"}),
    "a package with its key in two tables": ("export", sources(CREW, ITEMS),
    {"form": "package", "primary_key": "ship,f1"}),
    "headed, in plain letters and order": ("export", sources(PLACES),
    {"form": "headed", "ascii": True, "sort_by": "straße,zeit", "delimiter_out": "tab", "missing_code": ("größe=-1",)}),
    "headed, with timestamps": ("export", sources(TIMESTAMPS), {"form": "headed", "missing_code": ("-9",)}),
    "headed, with names that are alike": ("export", sources(ALIKE),
    {"form": "headed", "names_max": 8, "missing_code": ("w12345678901=-7", "-9")}),
    "headed, with keys that repeat": ("export", sources(KEYS.only(["id"]).take(np.arange(7))),
    {"form": "headed", "primary_key": "id"}),
    "headed, with a key that is often missing": ("export", sources(KEYS), {"form": "headed", "primary_key": "n"}),
    "headed, with a code that is a value": ("export", sources(VISITS), {"form": "headed", "missing_code": ("400",)}),
    "headed, with a key that repeats": ("export", sources(VISITS), {"form": "headed", "primary_key": "id"}),
    "headed, with a key that is missing": ("export", sources(BASE), {"form": "headed", "primary_key": "id"}),
}  # fmt: skip
