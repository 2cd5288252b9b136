"""To long and to wide are each other's inverse, and the account says where they are not."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.table.column import FILLERS, Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.numbers import Type
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import sources

REASONS = ("blank", "refused", "no-occasion")
DAY = datetime.date(2024, 1, 1)
VALUES: dict[Type, st.SearchStrategy[Any]] = {
    "integer": st.integers(-3, 3),
    "number": st.sampled_from([0.5, -1.0, 2.0, 1e9]),
    "string": st.sampled_from(["a", "b", "", "no-occasion"]),
    "boolean": st.booleans(),
    "date": st.sampled_from([DAY, DAY + datetime.timedelta(30)]),
}


@st.composite
def columns(draw: st.DrawFn, rows: int, type_: Type) -> Column:
    """A column with present cells and cells missing for one of three reasons."""
    cells = draw(st.lists(VALUES[type_], min_size=rows, max_size=rows))
    why = np.array(draw(st.lists(st.sampled_from([0, 0, 0, 1, 2, 3]), min_size=rows, max_size=rows)), np.uint8)
    made = Column.of_cells(type_, cells)
    if type_ == "string":
        return Column.of_strings(made.values, made.strings, why, REASONS)
    return Column.of(type_, made.values, why, REASONS)


@st.composite
def wide_tables(draw: st.DrawFn) -> Table:
    """Tables with measures of all types, holes among their occasions, zeros in front, labels, and any order."""
    rows = draw(st.integers(0, 5))
    made: dict[str, Column] = {"id": Column.of_cells("string", [f"c{at}" for at in range(rows)])}
    entries: dict[str, Variable] = {}
    for measure in draw(st.lists(st.sampled_from(["x", "y", "z_1"]), min_size=1, max_size=3, unique=True)):
        months = draw(st.lists(st.sampled_from([0, 3, 12]), min_size=1, unique=True))
        type_ = draw(st.sampled_from(list(VALUES)))
        for month in months:
            own: Type = draw(st.sampled_from(["integer", "number"])) if type_ == "number" else type_
            name = f"{measure}_m{month:02}" if draw(st.booleans()) else f"{measure}_m{month}"
            made[name] = draw(columns(rows, own))
            if draw(st.booleans()):
                entries[name] = Variable(label=draw(st.sampled_from([f"{measure} at {month}", "Mood", ""])), unit="u")
    if draw(st.booleans()):
        made["ship"] = draw(columns(rows, "string"))
    order = draw(st.permutations(list(made)))
    return Table({name: made[name] for name in order}, Dictionary(entries).for_columns(made))


def require_equal(first: Table, second: Table) -> None:
    """Names, order, types, values, reasons, fillers and dictionary entries."""
    assert first.names == second.names
    assert first.types() == second.types()
    assert first.same_as(second)
    for name, column in first.columns.items():
        other = second[name]
        assert first.dictionary.of(name) == second.dictionary.of(name)
        if column.type != "string":
            assert column.values.tobytes() == other.values.tobytes()
        assert (column.values[column.is_missing].astype(str) == str(FILLERS[column.type])).all() or not len(column)


@settings(max_examples=60, suppress_health_check=[HealthCheck.too_slow], deadline=None)
@given(wide_tables(), st.booleans())
def test_what_was_made_long_comes_back_wide(wide: Table, keep_empty: bool) -> None:
    step = ToLong(header=("{measure}_m{month}",), case=("id",), keep_empty=keep_empty)
    long = step.apply(sources(wide))
    back = ToWide().apply(sources(long.table)) if len(long.table) else None
    lost = long.account.facts["cannot_come_back"]
    if not lost:
        assert back is not None
        assert not back.account.facts["cannot_come_back"]
        require_equal(wide, back.table)
    else:
        assert back is None or not wide.same_as(back.table)


@st.composite
def long_tables(draw: st.DrawFn) -> Table:
    """Tables with some of the rows of each case, in any order of rows and columns."""
    choices: list[list[Any]] = [[0, 3, 12], [1.5, 2.0], ["before", "after"]]
    cases, months = draw(st.integers(1, 4)), draw(st.sampled_from(choices))
    every = [(case, month) for case in range(cases) for month in months]
    rows = draw(st.lists(st.sampled_from(every), min_size=1, unique=True))
    rows = rows if draw(st.booleans()) else sorted(rows, key=every.index)
    kinds: dict[type, Type] = {int: "integer", float: "number", str: "string"}
    kind = kinds[type(months[0])]
    made = {
        "id": Column.of_cells("string", [f"c{case}" for case, _ in rows]),
        "month": Column.of_cells(kind, [month for _, month in rows]),
    }
    made |= {name: draw(columns(len(rows), draw(st.sampled_from(sorted(VALUES))))) for name in ("x", "y")}
    if draw(st.booleans()):
        ships = draw(columns(cases, "string"))
        made["ship"] = ships.take(np.array([case for case, _ in rows]))
    order = draw(st.permutations(list(made)))
    entries = {"x": Variable(label="Sleep", level="occasion"), "y": Variable(level="occasion")}
    codes = {"when": {"before": "Before the trip", "after": "After it"}}
    if kind == "string":
        entries["month"] = Variable(codes="when")
    return Table({name: made[name] for name in order}, Dictionary(entries, codes).for_columns(made))


@settings(max_examples=60, suppress_health_check=[HealthCheck.too_slow], deadline=None)
@given(long_tables())
def test_what_was_made_wide_comes_back_long(long: Table) -> None:
    wide = ToWide(case=("id",), occasion=("month",), header="{measure}_{month}").apply(sources(long))
    back = ToLong(keep_empty=True).apply(sources(wide.table))
    if not wide.account.facts["cannot_come_back"]:
        assert not back.account.facts["cannot_come_back"]
        require_equal(long, back.table)
    else:
        assert not long.same_as(back.table)


@settings(max_examples=60, suppress_health_check=[HealthCheck.too_slow], deadline=None)
@given(long_tables())
def test_to_wide_agrees_with_a_slow_obvious_version(long: Table) -> None:
    made = (
        ToWide(case=("id",), occasion=("month",), header="{measure}_{month}", spread="x,y").apply(sources(long)).table
    )
    cell = {
        (case, month, name): (value, why)
        for name in ("x", "y")
        for case, month, value, why in zip(
            long["id"].cells(), long["month"].cells(), long[name].cells(),
            long[name].reason_cells(np.arange(len(long))), strict=True,
        )
    }  # fmt: skip
    for name in ("x", "y"):
        for month in set(long["month"].cells()):
            text = f"{name}_{int(month) if isinstance(month, float) and month == int(month) else month}"
            expected = [cell.get((case, month, name), (None, "no-occasion")) for case in made["id"].cells()]
            if text not in made.columns:
                assert {why for _, why in expected} == {"no-occasion"}
                continue
            found = made[text]
            assert list(zip(found.cells(), found.reason_cells(np.arange(len(made))), strict=True)) == expected
