"""Small things that were silently a little wrong, each by hand."""

from __future__ import annotations

import datetime

from lomrix.core.language.evaluate import evaluate
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import reasons, sources, table

DAYS = [datetime.date(2024, 3, day) for day in (9, 5, 7)]


def test_a_window_goes_by_the_decimal_text() -> None:
    base, added = table("a", k=[1, 1], t=[1.2, 2.0]), table("b", k=[1, 1], s=[1.3, 2.11], v=[5, 6])
    made = Merge(key=("k",), near="t=s", within="0.1", rows="base").apply(Inputs(base=base, added=added)).table
    assert made["v"].cells() == [5, None]


def test_the_first_of_repeated_dates_is_not_the_earliest() -> None:
    source = table(id=[1, 1, 1, 2], w=[0, 0, 0, 0], d=[*DAYS, DAYS[0]], x=[3, 1, 2, 9])
    for how, day, number in (("min", 5, 1), ("max", 9, 3)):
        made = ToWide(case=("id",), occasion=("w",), header="{measure}_{w}", repeated=how).apply(sources(source)).table
        assert made["d_0"].cells() == [datetime.date(2024, 3, day), DAYS[0]]
        assert made["x_0"].cells() == [number, 9]


def test_the_first_missing_date_gives_the_reason() -> None:
    columns = {name: Column.all_missing("date", 1, reason) for name, reason in (("a", "refused"), ("b", "lost"))}
    assert reasons(evaluate("days_between(a, b)", Table(columns))) == ["refused"]
    assert reasons(evaluate("b - a", Table(columns))) == ["lost"]


def test_the_share_of_a_range_of_codes_by_its_label() -> None:
    known = Dictionary({"mood": Variable(codes="moods")}, {"moods": {"1": "low", "2 to 3": "high"}})
    source = table(g=[1, 1, 1, 1], mood=[1, 2, 3, None], dictionary=known)
    made = Aggregate(by=("g",), stat=("mood: share(high) share(2 to 3)",)).apply(sources(source)).table
    assert [made[name].cells()[0] for name in made.names[1:]] == [2 / 3, 2 / 3]


def test_an_empty_text_is_blank() -> None:
    made = evaluate("strip(t)", table(t=["  ", "a"]))
    assert (made.cells(), reasons(made)) == ([None, "a"], ["blank", None])
