"""Accounts from the first line to the last, of small tables whose every number was worked out by hand."""

from __future__ import annotations

from typing import Any

import pytest

from lomrix.core.steps.account import Account
from lomrix.core.steps.registry import entry_of
from lomrix.core.steps.step import Inputs
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.tables import correcting, merging, sources, table, unnaming

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
OLD, NEW = table("o", id=["a", "b", "c"], x=[1, 2, 3]), table("n", id=["a", "c", "d"], x=[1, 5, 6])


def told(account: Account) -> str:
    """An account as lines: balances, listings, notes with their numbers and examples, advice."""
    lines = [account.summary]
    for balance in account.balances:
        parts = " + ".join(f"{count} {word}" for word, count in balance.parts)
        lines.append(f"{balance.what}: {balance.total} = {parts}")
    for listing in account.listings:
        lines.append(f"[{listing.title}] {' | '.join(listing.columns)}")
        lines += ["  " + " | ".join(map(str, row)) for row in listing.rows]
    lines += [f"! {note.column}: {note.text} ({note.count}) {list(note.examples)}" for note in account.notes]
    return "\n".join([*lines, *map(str, account.advice)])


PROFILE = """\
5 rows, 5 columns. Candidate keys: id.
cells: 25 = 22 with a value + 3 missing
[columns] column | type | missing | distinct | range or commonest values | label
  id | string | none | 5 | a (1), b (1), c (1), d (1) … |{blank}
  watch | integer | 1 blank | 3 | 2 night (2), 1 day (1), 9 (1) | Watch
  ship | string | none | 3 | gull (3), tern (1), Tern (1) |{blank}
  sleep | integer | 1 blank | 4 | 400 to 999 | Sleep
  dose | number | 1 blank | 4 | 1 to 4 |{blank}
! watch: 9 stands apart from all others and looks like a missing code; if so, say ‹missing_text=9› or declare it in a \
dictionary. (1) [(5, None)]
! watch: values without a label: 9. (1) []
! ship: texts that differ by capitals or blanks only: "tern" (1), "Tern" (1). (2) []
! sleep: 999 stands apart from all others and looks like a missing code; if so, say ‹missing_text=999› or declare it \
in a dictionary. (1) [(5, None)]"""

TALLY = """\
watch: 5 rows.
rows of crew: 5 = 4 counted + 1 watch missing (blank)
[watch (Watch)] code | label | cells | % of all | % of valid | running %
  1 | day | 1 | 20.0 | 25.0 | 25.0
  2 | night | 2 | 40.0 | 50.0 | 75.0
  9 | — | 1 | 20.0 | 25.0 | 100.0
  missing | blank | 1 | 20.0 |  |{blank}
  all |  | 5 | 100.0 |  |{blank}
! watch: values without a label: 9. (1) []
! watch: labels never used: 3 split. (1) []"""

CROSSED = """\
watch by ship: 6 rows.
rows of two: 6 = 5 counted + 1 watch missing (blank)
[watch (Watch) by ship, per cent of the row] watch | gull | tern | all
  day 1 | 1 (33.3) | 2 (66.7) | 3
  night 2 | 1 (50.0) | 1 (50.0) | 2
  all | 2 | 3 | 5
! watch: labels never used: 3 split. (1) []"""

BY_GROUP = """\
ship: 6 rows.
rows of two: 6 = 6 counted
[ship, g 1] value | cells | % of all | % of valid | running %
  gull | 1 | 33.3 | 33.3 | 33.3
  tern | 2 | 66.7 | 66.7 | 100.0
  all | 3 | 100.0 |  |{blank}
[ship, g 2] value | cells | % of all | % of valid | running %
  gull | 2 | 66.7 | 66.7 | 66.7
  tern | 1 | 33.3 | 33.3 | 100.0
  all | 3 | 100.0 |  |{blank}"""

# Turned f2 is 3 2 0 2 1. Of the rows a to c: variances 7/3, 7/3, 3, of the sums 9 7 0 67/3; alpha 3/2 (1 - 23/67).
SCORE = """\
f: 5 of 5 rows scored, 2 of them from some items.
rows for f: 5 = 3 from all items + 2 from some items
values in the columns kept: 18 = 18 in the result
[scores] score | values | mean | sd | smallest | largest | alpha | rows for alpha
  f | 5 | 1.667 | 1.124 | 0 | 3 | 0.985 | 3
[items of f, as they count] item | turned | values | mean | item-rest r | alpha without it
  f1 |  | 4 | 1.500 | 0.984 | 0.968
  f2 | here | 5 | 1.600 | 0.984 | 0.968
  f3 |  | 4 | 2.000 | 0.945 | 1.000"""

STACK = """\
2 files became 4 rows and 5 columns.
rows of the files: 4 = 2 w0 + 2 w6
rows: 4 = 4 in the result + 0 left out as repeated
values in the columns kept: 14 = 14 in the result
rows in the result: 4 = 2 wave 0 + 2 wave 6
[which variable is in which file] variable | w0 | w6 | in the result
  wave | integer | integer | integer
  id | string | string | string
  sleep | integer | integer | integer
  x | integer | None | integer
  y | None | string | string"""

DERIVE = """\
3 variables derived, 1 renamed; 4 rows as before.
rows: 4 = 4 in the result
columns of the result: 7 = 4 as before + 3 new
values in the columns kept: 15 = 15 in the result
cells of h: 4 = 3 with a value + 1 blank
cells of night: 4 = 4 with a value
cells of z: 4 = 2 with a value + 2 undefined
[what came of it] variable | type | values | smallest | largest | missing
  h | number | 3 | 6.5 | 7 | 1 blank
  night | boolean | 4 | false | true | none
  z | number | 2 | 0.333333 | 0.333333 | 2 undefined
[renamed] old | new
  watch | shift
! z: 2 cells undefined: 1 / month has no value there. (2) [(2, 'month 0'), (4, 'month 0')]"""

BARE = """\
4 rows and 4 columns made ready, bare.
rows: 4 = 4 made ready
cells: 16 = 15 with a value + 1 missing
missing cells: 1 = 1 written as a code + 0 left empty
[missing cells] reason | cells | written as
  blank | 1 | -9
[columns turned into numbers] column | how
  id | texts became codes 1 to 2"""

HEADED = """\
4 rows and 3 columns made ready, headed.
rows: 4 = 4 made ready
cells: 12 = 11 with a value + 1 missing
missing cells: 1 = 1 written as a code + 0 left empty
[missing cells] reason | cells | written as
  blank | 1 | -9
[labels in the place of codes] column | cells | without a label
  watch | 3 | 1
! watch: values without a label, written as they are: 9 (1). (0) []"""

# Means 2 and 6, variances 1 and 4: se² 5/3, df (5/3)² / (1/18 + 16/18) = 50/17, t 4 / 1.291 = 3.098.
COMPARE = """\
x, g v less u: 4, 95 % interval -0.1554 to 8.155 (Welch's t: t = 3.098, 2.941 df, p = 0.0548; standardised 2.53).
rows for x: 6 = 6 compared
[x] g | values | mean | sd | 95 % interval
  u | 3 | 2 | 1 | -0.4841 to 4.484
  v | 3 | 6 | 2 | 1.032 to 10.97
[sizes and tests] measure | comparison | n | difference | 95 % interval | method | statistic | df | p | \
standardised (95 % interval)
  x | g v less u | 6 | 4 | -0.1554 to 8.155 | Welch's t | 3.098 | 2.941 | 0.0548 | 2.53 (0.38 to 4.68)"""

CHANGES = """\
1 row new, 1 gone, 1 cell changed.
rows of o: 3 = 2 in both + 1 gone
rows of n: 3 = 2 in both + 1 new
cells in both: 2 = 1 as they were + 1 changed
[changed cells] variable | changed | nearly equal | examples: key, old → new
  x | 1 | 0 | c, 3 → 5
[rows that are new] row | id
  4 | d
[rows that are gone] row | id
  3 | b
! : a ledger mends cells and leaves rows out; new rows and columns are stacked or merged. (0) []"""

COVERAGE = """\
2 cases at 2 occasions; 2 seen at all of them, 4 of 4 possible visits made.
rows of visits: 4 = 4 first of their case and occasion
cases: 2 = 2 with a pattern
[seen at each occasion] month | seen | % of cases | % of those at 0 | new | returned | left | not seen again
  0 | 2 | 100.0 | 100.0 |  |  |  | 0
  3 | 2 | 100.0 | 100.0 | 0 | 0 | 0 |{blank}
[patterns: x seen, _ not] pattern | cases | % of cases
  xx | 2 | 100.0
[cells with a value, per cent of the rows of the occasion] variable | month 0 | month 3
  watch | 100.0 | 100.0
  sleep | 50.0 | 100.0"""

SUBSET = """\
5 of 6 rows and 3 of 4 columns kept.
rows: 6 = 5 kept + 1 condition false, left out
columns: 4 = 3 kept + 1 left out
! : columns left out: ship. (1) []"""

PEOPLE = table(
    "crew", id=["K1", "K2", "K3", "K2"], surname=["Anna Berg", "Boris", "Cyra", "Boris"], age=[31, 44, 59, 44],
    remark=["Boris came late", "z", "x", "y"], ship=["tern", "gull", "gull", "gull"],
)  # fmt: skip
LEDGER = table("ledger", row=["3", "4"], variable=["sleep"] * 2, old=["420", ""], action=["set"] * 2,
               new=["405", "380"], why=["typo", "found"])  # fmt: skip
BASE = table("base", id=["a", "b", "c", None], x=[1, 2, 3, 4])
ADDED = table("add", id=["a", "b", "d"], y=[10, None, 30])
WIDE = table("wide", id=["a", "b"], sex=[1, 2], sleep_m0=[400, None], sleep_m3=[420, 390])
PANEL = table("v", id=["a", "a", "b"], month=[0, 3, 0], sex=[1, 1, 2], x=[5, 6, 7])

UNNAMED = """\
3 ids of id became new ones, the same in every file of this secret.
rows: 4 = 4 with a new id + 0 without an id
columns: 5 = 4 kept + 1 removed
values in the columns kept: 16 = 16 in the result
[smallest groups; 4 rows stand in groups of fewer than 5] age | ship | rows
  31 | tern | 1
  59 | gull | 1
  44 | gull | 2
! : removed: surname. (1) []
! : rows stand in the order of the new ids. (0) []
! remark: 1 cell holds a text of the column surname, which should be gone; see ‹remove›, or mend them by a ledger. \
(1) [(5, None)]"""

RECODE = """\
4 cells changed in watch.
rows: 4 = 4 kept
cells of watch: 4 = 4 changed + 0 as they were
[values recoded] column | old | new | cells
  watch | 1 | 10 | 1
  watch | 2 | 20 | 2
  watch | 9 | missing: refused | 1"""

CORRECT = """\
2 of 2 corrections applied.
rows of the ledger: 2 = 2 applied + 0 already so + 0 left open + 0 refused
rows: 4 = 4 kept + 0 left out by the ledger
cells of the rows kept: 16 = 14 as they were + 2 corrected
[corrections] row | key | variable | old | new
  3 |  | sleep | "420" | "405"
  4 |  | sleep | a blank | "380"
"""

CHECK = """\
1 rule broken, 0 findings to look at, in 4 rows.
rows: 4 = 3 without a finding + 1 with a finding
[findings, the worst first]  | rule | column | cells | expected | first rows
  broken | not-listed | watch | 1 | one of 1, 2, 3 | row 5 (b 3) 9
add ‹draft_ledger=ledger.csv› to have these cells as a ledger to fill in"""

MERGE = """\
add brought to base by id: one-to-one.
rows of base: 4 = 2 with a partner + 1 without a partner + 1 key missing
rows of add: 3 = 2 with a partner + 1 without a partner + 0 key missing
rows in the result: 5 = 2 in both + 2 only in base + 1 only in add
distinct keys: 4 = 2 in both + 1 only in base + 1 only in add
values in the columns of base alone: 4 = 4 in the result
[keys without a partner, the first] file | key | rows | first row
  base | c | 1 | 4
  add | d | 1 | 4
! id: 1 row of base without id; a missing key matches nothing. (1) [(5, None)]"""

MATCHED = """\
add brought to base by id: one-to-one.
rows of base: 4 = 2 with a partner + 1 without a partner, left out + 1 key missing, left out
rows of add: 3 = 2 with a partner + 1 without a partner, left out + 0 key missing, left out
rows in the result: 2 = 2 in both + 0 only in base + 0 only in add
distinct keys: 4 = 2 in both + 1 only in base + 1 only in add
[keys without a partner, the first] file | key | rows | first row
  base | c | 1 | 4
  add | d | 1 | 4
! id: 1 row of base without id; a missing key matches nothing. (1) [(5, None)]"""

TO_LONG = """\
2 rows x 2 occasions (month 0, 3) became 3 rows.
rows x occasions (month): 4 = 3 rows with a measured value + 1 nothing measured at month 0, left out
rows of the result: 3 = 3 rows with a measured value + 0 nothing measured, kept
measured values in the turned columns: 3 = 3 sleep
[measures] measure | columns | formed from | values | missing, before rows are left out
  sleep | 2 | sleep_m0 sleep_m3 | 3 | 1 blank
! : carried along: id, sex. (2) []
! : to-wide could not bring back: why cells of the rows left out are missing (1 blank) (‹keep_empty› keeps all rows). \
(0) []"""

TO_WIDE = """\
4 rows became 2 cases x 2 occasions (month 0, 3), 5 columns.
rows of visits: 4 = 4 one for each case and occasion
cases x occasions (month): 4 = 4 with a row
measured values in the spread columns: 7 = 4 watch + 3 sleep
[measures] spread | within a case | columns | to | values | missing in the result
  watch | changes in 2 cases | 2 | watch_m0 watch_m3 | 4 | none
  sleep | changes in 1 case | 2 | sleep_m0 sleep_m3 | 3 | 1 blank"""

BALANCED = """\
1 row added: 2 cases at month 0, 3, 1 of them had all.
rows of the result: 4 = 3 as they were + 1 added (no-occasion)
rows of v: 3 = 3 in the result
values in the columns kept: 3 = 3 in the result
[the panel] month | cases with a row | without
  0 | 2 | 0
  3 | 1 | 1
! : filled from the case in added rows: sex. (1) []"""


AGGREGATE = """\
6 rows became 2 groups by g, 3 rows each.
rows of p: 6 = 6 in a group
rows of the result: 2 = 2 groups that the rows show
[values used] variable | values | skipped as missing | why
  x | 6 | 0 | none"""


@pytest.mark.parametrize(
    ("word", "inputs", "settings", "expected"),
    [
        ("profile", sources(CREW), {}, PROFILE),
        ("tally", sources(CREW), {"variables": ("watch",)}, TALLY),
        ("tally", sources(TWO), {"variables": ("watch", "ship"), "percent": "row", "as_labels": True}, CROSSED),
        ("tally", sources(TWO), {"variables": ("ship",), "by": ("g",)}, BY_GROUP),
        (
            "score", sources(ITEMS),
            {"name": "f", "items": "f1..f3", "reverse": "f2", "span": "0:3", "method": "mean", "at_least": 2}, SCORE,
        ),
        ("stack", sources(*WAVES), {"mark": "wave=0,6"}, STACK),
        (
            "derive", sources(VISITS),
            {"expressions": ("h = round(sleep / 60, 1)", "night = watch == 2", "z = 1 / month"),
             "rename": ("watch=shift",), "after": "id"}, DERIVE,
        ),
        ("export", sources(VISITS), {"form": "bare", "missing_code": ("-9",)}, BARE),
        (
            "export", sources(VISITS),
            {"form": "headed", "missing_code": ("auto",), "show_labels": "watch", "columns": "id,watch,sleep"}, HEADED,
        ),
        ("aggregate", sources(GROUPS), {"by": ("g",), "stat": ("x: mean",)}, AGGREGATE),
        ("compare", sources(GROUPS), {"measure": "x", "between": "g"}, COMPARE),
        ("changes", Inputs(old=OLD, new=NEW), {"key": "id"}, CHANGES),
        ("coverage", sources(VISITS), {"case": "id", "occasion": "month"}, COVERAGE),
        ("deidentify", unnaming(PEOPLE), {"id": "id", "remove": "surname", "quasi": "age,ship"}, UNNAMED),
        ("recode", sources(VISITS), {"map": ("watch: 1=10, 2=20, 9=missing:refused",)}, RECODE),
        ("correct", correcting(VISITS, LEDGER), {}, CORRECT),
        ("check", sources(VISITS), {"key": "id,month"}, CHECK),
        ("merge", merging(BASE, ADDED), {"key": ("id",)}, MERGE),
        ("merge", merging(BASE, ADDED), {"key": ("id",), "rows": "matched", "status": "from"}, MATCHED),
        ("to-long", sources(WIDE), {"case": "id", "header": ("{measure}_m{month}",)}, TO_LONG),
        ("to-wide", sources(VISITS), {"case": "id", "occasion": "month", "header": "{measure}_m{month}"}, TO_WIDE),
        ("to-balanced", sources(PANEL), {"case": "id", "occasion": "month"}, BALANCED),
        ("subset", sources(TWO), {"where": "watch == 1 or g == 2", "columns": "id,w*,g"}, SUBSET),
    ],
)  # fmt: skip
def test_an_account_says_what_was_done(word: str, inputs: Inputs, settings: dict[str, Any], expected: str) -> None:
    entry = entry_of(word)
    assert entry is not None
    made = entry.step()(**settings).apply(inputs)
    # An editor takes blanks at the end of a line away, so they are written as a word here.
    assert told(made.account).splitlines() == expected.replace("{blank}", " ").splitlines()
