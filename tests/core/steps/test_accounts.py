"""Accounts count: a step that drops a row, or changes a cell that it reports as kept, stops itself."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import UnbalancedAccountError
from lomrix.core.steps.aggregate.run import Grouping
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.correct.run import Correction
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.deidentify.run import Deidentification
from lomrix.core.steps.deidentify.settings import Deidentify
from lomrix.core.steps.export.settings import Export
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.steps.recode.run import TableRecoding
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.turn import Gathering
from lomrix.core.steps.stack.run import Stacking
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs, Step
from lomrix.core.steps.tally.run import Crossing
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from tests.tables import correcting, merging, sources, table, unnaming


def a_row_less(made: Table) -> Table:
    """As a step would give it that loses its second row."""
    return made.take(np.delete(np.arange(len(made)), 1))


def a_cell_less(made: Table) -> Table:
    """As a step would give it that loses a value of its last column."""
    name = made.names[-1]
    first = np.flatnonzero(~made[name].is_missing)[0]
    gone = np.arange(len(made)) == first
    return Table({**made.columns, name: made[name].with_missing(gone, "blank")}, made.dictionary, name=made.name)


def another_value(made: Table) -> Table:
    """As a step would give it that changes a number on its way."""
    name = next(name for name in reversed(made.names) if made[name].type == "integer")
    values = made[name].values.copy()
    values[np.flatnonzero(~made[name].is_missing)[-1]] += 1
    column = Column("integer", values, made[name].why, made[name].reasons)
    return Table({**made.columns, name: column}, made.dictionary, name=made.name)


PEOPLE = table("people", id=["a", "b", "c", "d"], x=[1, None, 3, 4], y=[5, 6, 7, None])
MORE = table("more", id=["a", "b", "e"], z=[1, 2, None])
WIDE = table("wide", id=["a", "b", "c"], x_m0=[1, 2, 3], x_m3=[4, None, 6])
LONG = table("long", id=["a", "a", "b", "b"], month=[0, 3, 0, 3], x=[1, 2, 3, 4])
LEDGER = Table({
    name: Column.of_cells("string", cells)
    for name, cells in {"id": ["a"], "variable": ["x"], "old": ["1"], "new": ["2"]}.items()
})  # fmt: skip

# The step, its tables, the class and method that make its table, and what is done to it.
BROKEN: list[tuple[Step, Inputs, type, str, Callable[[Table], Table]]] = [
    (Merge(key="id"), merging(PEOPLE, MORE), Pairing, "make_table", a_row_less),
    (
        Merge(key="id"),
        merging(PEOPLE, MORE),
        Pairing,
        "make_table",
        lambda made: a_cell_less(made.only(["id", "x", "y"])),
    ),
    (Stack(), sources(PEOPLE, MORE), Stacking, "make_table", a_row_less),
    (Stack(), sources(PEOPLE, MORE), Stacking, "make_table", a_cell_less),
    (Aggregate(by="id"), sources(PEOPLE), Grouping, "make_table", a_row_less),
    (
        Aggregate(by="id", stat="x: n", attach=True),
        sources(PEOPLE),
        Grouping,
        "make_table",
        lambda made: a_cell_less(made.only(["id", "x", "y"])),
    ),
    (Correct(), correcting(PEOPLE, LEDGER), Correction, "make_table", a_row_less),
    (Correct(), correcting(PEOPLE, LEDGER), Correction, "make_table", another_value),
    (Recode(map="x: 1=9"), sources(PEOPLE.only(["id", "y", "x"])), TableRecoding, "make_table", a_row_less),
    (Recode(map="x: 1=9"), sources(PEOPLE.only(["id", "y", "x"])), TableRecoding, "make_table", another_value),
    (Deidentify(id="id"), unnaming(PEOPLE), Deidentification, "_describe", a_cell_less),
    (ToLong(header="{measure}_m{month}", case="id"), sources(WIDE), Gathering, "make_table", a_row_less),
    (ToLong(header="{measure}_m{month}", case="id"), sources(WIDE), Gathering, "make_table", a_cell_less),
    (
        ToWide(case="id", occasion="month", header="{measure}_m{month}"),
        sources(LONG),
        Spreading,
        "make_table",
        a_row_less,
    ),
    (
        ToWide(case="id", occasion="month", header="{measure}_m{month}"),
        sources(LONG),
        Spreading,
        "make_table",
        a_cell_less,
    ),
    (Tally(variables="id"), sources(PEOPLE), Crossing, "make_table", a_row_less),
]


@pytest.mark.parametrize(
    ("step", "inputs", "kind", "method", "harm"),
    BROKEN,
    ids=[f"{step.word}-{kind.__name__}-{at}" for at, (step, _, kind, *_) in enumerate(BROKEN)],
)
def test_a_broken_run_is_stopped_by_its_account(
    step: Step, inputs: Inputs, kind: type, method: str, harm: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    step.apply(inputs)
    right = getattr(kind, method)

    def wrong(*given: Any) -> Any:
        made = right(*given)
        return (harm(made[0]), *made[1:]) if isinstance(made, tuple) else harm(made)

    monkeypatch.setattr(kind, method, wrong)
    with pytest.raises(UnbalancedAccountError):
        step.apply(inputs)


@pytest.mark.parametrize("harm", [a_row_less, a_cell_less])
def test_subset_and_export_are_stopped_too(harm: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    module = importlib.import_module("lomrix.core.steps.subset.run")
    step = importlib.import_module("lomrix.core.steps.subset.settings").Subset()
    only = Table.only
    monkeypatch.setattr(Table, "only", lambda self, names: harm(only(self, names)))
    with pytest.raises(UnbalancedAccountError):
        module.subset(step, sources(PEOPLE), ())
    monkeypatch.undo()
    export = importlib.import_module("lomrix.core.steps.export.run")
    replace = export.replace
    monkeypatch.setattr(export, "replace", lambda made, **parts: harm(replace(made, **parts)))
    with pytest.raises(UnbalancedAccountError):
        Export(missing_code="-9").apply(sources(PEOPLE))
