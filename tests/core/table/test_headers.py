"""Header templates: where a measure ends and its occasion begins."""

from __future__ import annotations

import pytest

from lomrix.core.errors import UsageError
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.table.header import HeaderTemplate
from tests.tables import rows, sources, table

READ = [
    ("{measure}{year:02}", "co298", {}, ("co2", "98")),
    ("{measure}{year:02}", "no3", {}, None),
    ("{measure}{year}", "co298", {}, ("co", "298")),
    ("{measure}{side}", "gripL", {"side": {"L", "R"}}, ("grip", "L")),
    ("{measure}{side}", "goal", {"side": {"L", "R"}}, None),
    ("{measure}{wave}", "sleeppost", {"wave": {"pre", "post"}}, ("sleep", "post")),
    ("{measure}{wave}", "sleep2", {"wave": {"0", "12"}}, ("sleep", "2")),
    ("{measure}_m{month:02}", "sleep_m100", {}, ("sleep", "100")),
]


@pytest.mark.parametrize(("template", "name", "allowed", "found"), READ)
def test_where_a_measure_ends(
    template: str, name: str, allowed: dict[str, set[str]], found: tuple[str, str] | None
) -> None:
    reading = HeaderTemplate.parse(template).read(name, allowed)
    assert (tuple(reading.values()) if reading else None) == found


def test_digits_of_a_measure_are_reported_or_left_to_it() -> None:
    wide = table(id=[1], catch98=[2], co298=[3], co299=[4])
    output = ToLong(header="{measure}{year}", case="id").apply(sources(wide))
    assert ["co298" in note.text for note in output.account.notes if note.kind == "joined-digits"] == [True]
    made = ToLong(header="{measure}{year:02}", case="id").apply(sources(wide))
    assert (made.table.names, rows(made.table)) == (["id", "year", "catch", "co2"], [(1, 98, 2, 3), (1, 99, None, 4)])
    assert not any(note.kind == "joined-digits" for note in made.account.notes)
    visits = ToLong(header="{measure}{visit}", case="id").apply(sources(table(id=[1], x1=[1], x2=[2], x12=[3])))
    assert not any(note.kind == "joined-digits" for note in visits.account.notes)


def test_sides_that_were_stated() -> None:
    hands = table(id=[1], gripL=[2], gripR=[3], goal=[6])
    made = ToLong(header="{measure}{side}", case="id", occasions=["side:L,R"]).apply(sources(hands)).table
    assert rows(made.only(["id", "side", "grip", "goal"])) == [(1, "L", 2, 6), (1, "R", 3, 6)]


def test_braces_with_a_blank_get_a_message_that_helps() -> None:
    with pytest.raises(UsageError) as stopped:
        HeaderTemplate.parse("{measure}{side no}")
    assert "{side_no}" in stopped.value.todo


def test_a_carried_column_that_fits_the_template_is_carried_back() -> None:
    long = table(id=[1, 1, 2, 2], m=[0, 3, 0, 3], sleep=[5, 6, 4, 3], x_m9=[7, 7, 8, 8])
    wide = ToWide(case="id", occasion="m", header="{measure}_m{m}").apply(sources(long)).table
    assert wide.names == ["id", "x_m9", "sleep_m0", "sleep_m3"]
    back = ToLong().apply(sources(wide)).table
    assert (back.names, rows(back)) == (long.names, rows(long))
