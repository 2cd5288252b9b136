"""The page: distributions, who was seen when, what is missing when, means, and the history of the file."""

from __future__ import annotations

import datetime
from typing import Any

import pytest

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.steps.balanced.settings import ToBalanced
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.report.content import Content
from lomrix.core.steps.report.settings import Report
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import History
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, parts_of, sources, table

KNOWN = Dictionary(
    {"watch": Variable(codes="watches"), "sleep": Variable(label="Sleep", unit="h"), "wave": Variable(codes="waves")},
    {"watches": {"1": "day", "2": "night", "3": "split"}, "waves": {"0": "before"}},
)
# a is seen at 0, 3 and 6, b at 0 and 6, c at 3 only, one row has no wave.
VISITS = table(
    "visits", KNOWN,
    crew=["a", "a", "a", "b", "b", "c", "c"], wave=[0, 3, 6, 0, 6, 3, None], watch=[1, 1, 1, 2, 2, 2, 2],
    sleep=[7.0, 5.0, 6.0, 9.0, None, 8.0, 1.0],
)  # fmt: skip


def page(source: Table, **settings: Any) -> Content:
    made = Report(**settings).apply(sources(source)).extras["prepared"]
    assert isinstance(made, list)
    (content,) = made
    assert isinstance(content, Content)
    return content


def bars(source: Table, name: str, **settings: Any) -> list[tuple[str, int | None]]:
    (found,) = [one for one in page(source, **settings).variables if one.summary.name == name]
    return [(bar.label, bar.cells) for bar in found.bars]


def test_who_was_seen_when() -> None:
    found = page(VISITS, case=("crew",), occasion=("wave",))
    assert (found.title, found.rows, found.case, found.occasion, found.cases) == ("visits", 7, "crew", "wave", 3)
    assert [(one.occasion, one.cases, one.new, one.back, one.lost) for one in found.seen] == [
        ("0 (before)", 2, 2, 0, 0), ("3", 2, 1, 0, 1), ("6", 2, 0, 1, 1),
    ]  # fmt: skip
    assert [(gap.name, gap.reason, gap.shares) for gap in found.gaps] == [("sleep", "", (0.0, 0.0, 0.5))]
    few = page(VISITS, case=("crew",), occasion=("wave",), min_n=2)
    assert [(one.cases, one.new, one.back, one.lost) for one in few.seen] == [
        (None, None, 0, 0), (None, None, 0, None), (None, 0, None, None),
    ]  # fmt: skip
    assert few.cases == 3  # 2 and 1 of them are new: neither may be shown beside the other
    assert few.gaps[0].shares == (0.0, 0.0, None)  # 1 of 2 is too few to be shown


def test_the_account_of_a_page() -> None:
    made = Report(case=("crew",), occasion=("wave",), title="Our crews").apply(sources(VISITS))
    account = made.account
    assert account.summary == "4 variables of 7 rows, 3 occasions, 0 boxes in the flow."
    assert [(one.total, parts_of(one)) for one in account.balances] == [(28, {"with a value": 26, "missing": 2})]
    assert account.facts == {"variables": 4, "occasions": ["0 (before)", "3", "6"]}
    (note,) = account.notes
    assert (note.text, note.count) == (
        "1 row has no case or no occasion, so not counted in who was seen when.", 1,
    )  # fmt: skip
    assert page(VISITS, title="Our crews").title == "Our crews"


def test_means_over_the_occasions() -> None:
    found = page(VISITS, case=("crew",), occasion=("wave",), measure="sleep", by=("watch",))
    (drawn,) = found.drawn
    assert (drawn.name, drawn.label, drawn.unit, [line.group for line in drawn.lines]) == (
        "sleep", "Sleep", "h", ["day", "night"],
    )  # fmt: skip
    assert [(one.occasion, one.n, one.mean, one.low) for one in drawn.lines[1].points] == [
        ("0 (before)", 1, 9.0, None), ("3", 1, 8.0, None), ("6", 0, None, None),
    ]  # fmt: skip
    (line,) = page(VISITS, case=("crew",), occasion=("wave",), measure="sleep").drawn[0].lines
    first = line.points[0]
    assert (first.n, first.mean) == (2, 8.0)
    # Two values 2 apart: standard error 1, and t with one degree of freedom is 12.706.
    assert first.low == pytest.approx(8 - 12.7062047)
    assert first.high == pytest.approx(8 + 12.7062047)
    few = page(VISITS, case=("crew",), occasion=("wave",), measure="sleep", min_n=2).drawn[0].lines[0].points[2]
    assert (few.n, few.mean) == (None, None)
    huge = table(crew=["a", "b"], wave=[0, 3], x=[1e308, -1e308])
    assert [point.mean for point in page(huge, case="crew", occasion="wave", measure="x").drawn[0].lines[0].points] == [
        None, None,
    ]  # fmt: skip
    with pytest.raises(UsageError, match="crew is not numeric"):
        page(VISITS, case=("crew",), occasion=("wave",), measure="crew")


def test_distributions() -> None:
    assert bars(VISITS, "watch") == [("day", 3), ("night", 4), ("split", 0)]
    assert bars(VISITS, "watch", min_n=4) == [("day", None), ("night", None), ("split", 0)]
    assert bars(VISITS, "crew") == [("a", 3), ("b", 2), ("c", 2)]
    assert bars(VISITS, "crew", min_n=3) == [("a", 3)]
    # One value of one person beside a total is never left alone: the next smallest goes with it.
    assert bars(table(g=[*"aaaaaaa", *"bbbbb", "c"]), "g", min_n=3) == [("a", 7)]
    assert page(table(g=[*"aaaaaaa", *"bbbbb", "c"]), min_n=3).variables[0].more == 2
    assert bars(table(x=[1, 1, 3]), "x") == [("1", 2), ("2", 0), ("3", 1)]
    found = bars(table(x=[0.0, 10.0, 10.0]), "x")
    assert (found[0][1], found[-1][1], sum(n or 0 for _, n in found)) == (1, 2, 3)
    assert found[0][0].startswith("0 to ") and found[-1][0].endswith(" to 10")
    days = Table({"d": Column.of_cells("date", [datetime.date(2024, 3, 5), datetime.date(2024, 3, 6), None])})
    assert bars(days, "d") == [("2024-03-05", 1), ("2024-03-06", 1)]
    assert bars(table(x=[None, None]), "x") == []
    # Ids, all different, are not shown; their number is.
    ids = page(table(x=[f"K{at}" for at in range(99)])).variables[0]
    assert (ids.bars, ids.more) == ((), 99)


def test_nothing_speaks_of_single_people() -> None:
    found = page(table(x=[1, 2, None]), min_n=3).variables[0]
    output = found.summary
    assert (output.minimum, output.maximum, output.mean, output.median, output.deviation) == ("", "", None, None, None)
    assert dict(found.missing) == {"blank": None}
    found = page(table(x=[1, 2, 6]), min_n=3).variables[0]
    assert (found.summary.mean, found.summary.median, found.summary.maximum) == (3.0, 2.0, "")
    assert dict(page(VISITS).variables[3].missing) == {"blank": 1}


@pytest.mark.parametrize(
    ("cells", "expected"),
    [
        # Of whole numbers the third from below is 2, the third from above 4.
        ([19, *[4] * 3, *[3] * 4, *[2] * 3], [("2", 3), ("3", 4), ("4 and more", 4)]),
        ([1, *[4] * 3, *[3] * 4, 2, 2], [("up to 2", 3), ("3", 4), ("4", 3)]),
        ([*[5] * 7, 900], [("mostly 5", 8)]),
        ([1, 2, 3, 4, 600], []),
        # Twelve parts from 10 to 34, two wide each; 20 is in none.
        (
            [0.0, *[10.0] * 3, 20.0, *[34.0] * 3, 99.5],
            [
                ("up to 12", None), *[(f"{at} to {at + 2}", 0) for at in (12, 14, 16, 18)], ("20 to 22", None),
                *[(f"{at} to {at + 2}", 0) for at in (22, 24, 26, 28, 30)], ("32 and more", 4),
            ],
        ),
        (
            [datetime.date(2024, 3, day) for day in (5, 5, 5, 6, 6, 7, 7, 30)],
            [("2024-03-05", None), ("2024-03-06", None), ("2024-03-07 and later", 3)],
        ),
    ],
)  # fmt: skip
def test_the_ends_of_a_distribution_are_nobody_s(cells: list[Any], expected: list[tuple[str, int | None]]) -> None:
    assert bars(table(x=cells), "x", min_n=3) == expected


def test_how_a_file_was_made() -> None:
    raw = {"role": "source", "path": "raw/a.csv", "hash": "h", "rows": 5}
    outputs = [{"role": "unmatched", "path": "u.csv"}, {"role": "out", "path": "out/b.csv"}]
    inputs = [raw, {"role": "dictionary", "path": "d.toml"}]
    first = {"do": "recode", "summary": "2 cells changed.", "rows": 5, "inputs": inputs, "outputs": outputs}
    second = {"do": "subset", "inputs": [{"task": "1"}, raw], "rows": 3}
    third = {"do": "stack", "inputs": [{"task": "2", "step": "adults"}, {"task": "1"}]}
    history = History({"1": first, "2": second, "3": third}, "3")
    found = page(Table({"x": column([1])}, history=history)).flow
    assert [(one.title, one.does, one.rows, one.summary) for one in found] == [
        ("a.csv", "", 5, ""), ("b.csv", "recode", 5, "2 cells changed."), ("adults", "subset", 3, ""),
        ("", "stack", None, ""),
    ]  # fmt: skip
    file, *tasks = found
    assert [task.needs for task in tasks] == [(file.id,), ("1", file.id), ("2", "1")]


@pytest.mark.parametrize(
    ("settings", "field"),
    [
        ({"case": ("a",)}, "occasion"),
        ({"occasion": ("a",)}, "case"),
        ({"measure": "x"}, "occasion"),
        ({"by": ("g",)}, "measure"),
        ({"min_n": -1}, "min_n"),
    ],
)
def test_what_cannot_be_asked(settings: dict[str, Any], field: str) -> None:
    with pytest.raises(SettingError) as caught:
        Report(**settings)
    assert caught.value.setting == field


def test_a_minimum_size_counts_persons() -> None:
    # One person with many values, three others with one each.
    made = page(
        table(pid=[*[1] * 20, 2, 3, 4], wave=[*range(20), 0, 0, 0], x=[*[50] * 20, 1, 2, 3], g=[*"a" * 20, *"bbb"]),
        case=("pid",), occasion=("wave",), min_n=3,
    )  # fmt: skip
    by_name = {one.summary.name: one for one in made.variables}
    assert by_name["g"].bars == () and by_name["g"].more == 2  # a are twenty rows, but one person
    assert by_name["x"].bars == ()
    assert [one.cases for one in made.seen[:2]] == [4, None]


def test_rows_that_only_balance_a_panel_are_not_seen() -> None:
    panel = ToBalanced(case=("pid",), occasion=("wave",)).apply(
        sources(table(pid=[1, 1, 2], sex=[1, 1, 2], wave=[0, 3, 0], x=[5, 6, None]))
    )
    made = page(panel.table, case=("pid",), occasion=("wave",))
    assert [(one.cases, one.lost) for one in made.seen] == [(2, 0), (1, 1)]
    covered = Coverage(case=("pid",), occasion=("wave",)).apply(sources(panel.table))
    assert covered.table["pattern"].cells() == ["xx", "x_"]
    assert parts_of(covered.account.balances[0]) == {
        "first of their case and occasion": 3, "without a visit (no-occasion)": 1,
    }  # fmt: skip
