"""What a draft of a dictionary takes from a table, variable by variable."""

from __future__ import annotations

import datetime

from lomrix.core.steps.dictionary.draft import DraftVariable, draft_variables, find_misfits
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.tables import table

DAYS = [datetime.date(2024, 3, 1), datetime.date(2024, 1, 5), datetime.date(2024, 2, 1), None]
KNOWN = Dictionary(
    {"w": Variable(label="Watch", codes="watches"), "s": Variable(codes="ships")},
    {"watches": {"1": "day", "2": "night"}, "ships": {"a": "one", "b": "two", "c": "three"}},
)


def test_every_variable_as_the_table_shows_it() -> None:
    made = table("t", KNOWN, w=[1, 2, 10, 1], x=[2.5, None, -1.0, 4.0], s=["b", "a", "b", None], d=DAYS,
                 t=["x", "y", "z", "zz"], none=[None] * 4, b=[True, None, False, True])  # fmt: skip
    made = made.with_columns({**made.columns, "x": made["x"].with_missing(made["x"].values == -1.0, "refused")})
    watch, ship = KNOWN.of("w"), KNOWN.of("s")
    assert draft_variables(made, Dictionary({"t": Variable(label="known")})) == [
        DraftVariable("w", "integer", ("1", "10"), (), (), (), watch, KNOWN.labels_of("w")),
        DraftVariable("x", "number", ("2.5", "4"), (), ("refused",)),
        DraftVariable("s", "string", None, ("a", "b"), (), (), ship, KNOWN.labels_of("s")),
        DraftVariable("d", "date", ("2024-01-05", "2024-03-01"), (), ()),
        DraftVariable("none", "string", None, (), ()),
        DraftVariable("b", "boolean", None, (), ()),
    ]


def test_few_values_are_likely_codes_in_their_order() -> None:
    made = table("t", x=[10, 9, 2, 9, 10, 2, 9, 2], far=[1, 2, 3, 1, 2, 3, 1, -99])
    found, far = draft_variables(made, Dictionary())
    assert found.values == ("2", "9", "10")
    assert (far.codes, far.span) == ((-99,), ("1", "3"))


def test_lists_of_codes_that_do_not_fit() -> None:
    made = table("t", KNOWN, w=[1, 2, 2], s=["a", "d", None])
    assert find_misfits(made, KNOWN) == [("s", "d", "b two, c three")]
    assert find_misfits(table("t", KNOWN, w=[1, 9, 1]), KNOWN) == [("w", "9", "2 night")]
    assert find_misfits(table("t", KNOWN, w=[1, 1, 1]), KNOWN) == [("w", "none", "2 night")]
    assert find_misfits(table("t", KNOWN, w=[1, 2, 9]), KNOWN) == [("w", "9", "none")]
    assert find_misfits(table("t", KNOWN, w=[1, 2, None], x=[7, 8, 9]), KNOWN) == []
