"""Rules that all steps share: one order of occasions, one rule for constants."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import DataError
from lomrix.core.steps.balanced.settings import ToBalanced
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.derive.settings import Derive
from lomrix.core.steps.report.settings import Report
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.step import Result, Step
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import rows, sources, table

LONG: dict[str, Any] = {"case": ("id",), "occasion": ("when",)}
KNOWN = Dictionary({"when": Variable(codes="w")}, {"w": {"before": "Before", "after": "After"}})
# By letter and by row after comes first; each value of after is 4 more.
CELLS: Any = {
    "id": [1, 1, 2, 2, 3], "when": ["after", "before", "after", "before", "before"], "x": [14, 10, 24, 20, 5]
}  # fmt: skip
STEPS: list[Step] = [
    Compare(measure="x", between="when", paired_on=("id",)), Derive(expressions=("d = change(x)",), **LONG),
    ToWide(header="{measure}_{when}", **LONG), Coverage(**LONG), ToBalanced(**LONG), Report(**LONG),
]  # fmt: skip


def order(step: Step, source: Table) -> tuple[bool, Result]:
    """Whether before comes before after."""
    made = step.apply(sources(source))
    table = made.table
    found: dict[str, Any] = {
        "compare": lambda: table["difference"].cells()[0] > 0,
        "derive": lambda: table["d"].cells()[0] == 4,
        "to-wide": lambda: table.names.index("x_before") < table.names.index("x_after"),
        "coverage": lambda: table["pattern"].cells()[2] == "x_",
        "to-balanced": lambda: table["when"].cells()[:2] == ["before", "after"],
        "report": lambda: "efore" in made.extras["prepared"][0].seen[0].occasion,
    }
    return found[step.word](), made


@pytest.mark.parametrize("step", STEPS, ids=[one.word for one in STEPS])
def test_occasions_have_one_order_in_all_steps(step: Step) -> None:
    by_codes, made = order(step, table("t", KNOWN, **CELLS))
    assert by_codes and not any(note.kind == "occasion-order" for note in made.account.notes)
    wide = table(id=[1, 2, 3], x_after=[14, 24, None], x_before=[10, 20, 5])
    long = ToLong(header=("{measure}_{when}",), case=("id",), occasions=("before,after",)).apply(sources(wide)).table
    if step.word != "to-wide":  # which gives the columns back as they were
        assert order(step, long.take(np.array([1, 0, 3, 2, 4])))[0]
    by_appearance, made = order(step, table("t", **CELLS))
    (note,) = [note for note in made.account.notes if note.kind == "occasion-order"]
    assert not by_appearance and "ordered by first appearance: after, before." in note.text


def test_words_beside_numbers_are_first_or_last() -> None:
    whens = ["Month 12", "Final", "month 3", "Screening", "Month 3", "Other"]
    made = Coverage(case=("id",), occasion=("when",)).apply(sources(table(id=[1] * 6, when=whens)))
    assert made.account.facts["occasions"] == ["Screening", "Month 3", "month 3", "Month 12", "Final", "Other"]
    assert [note.text for note in made.account.notes if note.column == "when"] == [
        "occasions without a number come last: Final, Other. Codes in the dictionary would state their order.",
        '"Month 3" and "month 3" differ only in capitals or spaces, and are different occasions.',
    ]


def test_numbers_are_in_order_of_their_values_whatever_the_rows_do() -> None:
    for whens, later in (([12, 3], 0), (["visit 12", "visit 3"], 0)):
        source = table(id=[1, 1], when=whens, x=[9, 5])
        assert Derive(expressions=("d = change(x)",), **LONG).apply(sources(source)).table["d"].cells()[later] == 4
        compared = Compare(measure="x", between="when", paired_on=("id",)).apply(sources(source)).table
        assert compared["comparison"].cells()[0].endswith("12 less " + str(whens[1]))


def test_a_constant_takes_the_value_that_is_there_and_never_one_of_several() -> None:
    source = table(id=[1, 1, 2, 2], when=[0, 3, 0, 6], sex=[None, 2, 1, 1], ship=["a", "b", "c", "c"], x=[1, 2, 3, 4])
    wide = ToWide(header="{measure}_{when}", constant="sex", spread="x", **LONG).apply(sources(source.only(
        ["id", "when", "sex", "x"]
    ))).table  # fmt: skip
    assert wide["sex"].cells() == [2, 1]
    panel = ToBalanced(constant="sex", **LONG).apply(sources(source)).table
    assert rows(panel.only(["id", "when", "sex"])) == [
        (1, 0, None), (1, 3, 2), (1, 6, 2), (2, 0, 1), (2, 3, 1), (2, 6, 1),
    ]  # fmt: skip
    for step in (
        ToBalanced(constant="ship", **LONG),
        ToWide(header="{measure}_{when}", constant="ship", spread="x,sex", **LONG),
    ):
        with pytest.raises(DataError, match="ship is not a constant: it varies within 1 case") as caught:
            step.apply(sources(source))
        assert caught.value.where == "1 (a, b)"
