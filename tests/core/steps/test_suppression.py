"""Small groups stay hidden: from everything that is shown no hidden number can be computed."""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt
import pytest

from lomrix.core.arrays.suppression import find_determined, protect
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.report.discretion import Discretion
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table

KEYS = ("a", "b", "c")
ROUNDS = 480
Numbers = npt.NDArray[np.float64]


def aggregated(table: Table, **settings: object) -> Result:
    return Aggregate(**settings).apply(Inputs(source=table))


def random_table(random: np.random.Generator) -> tuple[Table, int]:
    """Some rows of one to three keys, two measures with gaps, and cases of several rows."""
    keys, rows = int(random.integers(1, 4)), int(random.integers(3, 40))
    columns = {name: Column.of("integer", random.integers(0, random.integers(2, 5), rows)) for name in KEYS[:keys]}
    for name in ("x", "y"):
        gone = (random.random(rows) < random.choice([0, 0.2, 0.5])).astype(np.uint8)
        columns[name] = Column.of("integer", random.integers(0, 9, rows), gone, ("blank",))
    columns["pid"] = Column.of("integer", random.integers(0, rows, rows))
    return Table(columns), keys


def matrix_of(result: Result, leaves: list[tuple[int, ...]], keys: int, names: list[str]) -> tuple[Numbers, Numbers]:
    """What is shown and what is hidden, each a row over all numbers of the lowest groups."""
    shown: list[Numbers] = []
    hidden: list[Numbers] = []
    cells = {name: result.table[name].cells() for name in KEYS[:keys]}
    for at in range(len(result.table)):
        inside = [
            all(cells[name][at] in (None, value) for name, value in zip(KEYS, leaf, strict=False)) for leaf in leaves
        ]
        for place, name in enumerate(names):
            row = np.zeros((len(names), len(leaves)))
            row[place] = inside
            why = result.table[name].reason_cells(np.array([at]))[0]
            (hidden if why == "suppressed" else shown).append(row.ravel())
    # The account counts all values of a measure, and all its missing cells.
    for line in result.account.listings[0].rows:
        for statistic, number in (("n", line[1]), ("missing", line[2])):
            if f"{line[0]}_{statistic}" in names and number != "" and number != "suppressed":
                row = np.zeros((len(names), len(leaves)))
                row[names.index(f"{line[0]}_{statistic}")] = 1
                shown.append(row.ravel())
    if "x_missing" in names:  # values and missing cells are the rows of the group, for either measure
        for at in range(len(leaves)):
            row = np.zeros((len(names), len(leaves)))
            row[:, at] = [1 if name.startswith("x") else -1 for name in names]
            shown.append(row.ravel())
    return np.array(shown), np.array(hidden)


@pytest.mark.parametrize("part", range(4))
def test_no_hidden_group_can_be_computed_from_what_is_shown(part: int) -> None:
    random = np.random.default_rng(part)
    some = 0
    for _ in range(ROUNDS // 4):
        table, keys = random_table(random)
        statistics = "n missing" if random.random() < 0.5 else "n"
        result = aggregated(
            table, by=KEYS[:keys], stat=(f"x, y: {statistics}",), min_n=int(random.integers(2, 6)),
            totals=bool(random.random() < 0.7), case=("pid",) if random.random() < 0.5 else (),
        )  # fmt: skip
        leaves = sorted(set(zip(*(table[name].cells() for name in KEYS[:keys]), strict=True)))
        names = [f"{name}_{one}" for name in ("x", "y") for one in statistics.split()]
        shown, hidden = matrix_of(result, leaves, keys, names)
        if not len(hidden):
            continue
        some += 1
        _, sizes, rows = np.linalg.svd(shown) if len(shown) else (0, np.zeros(0), np.eye(hidden.shape[1]))
        spanned = rows[: np.count_nonzero(sizes > 1e-9)]
        beyond = np.abs(hidden - hidden @ spanned.T @ spanned).max(axis=1)
        assert (beyond > 1e-6).all(), (result.table.names, table.columns)
    assert some > ROUNDS // 16


def test_the_total_of_totals_gives_no_ship_away() -> None:
    text = "auk 0 10,auk 0 12,auk 0 14,auk 3 20,auk 3 22,auk 3 24,tern 0 30,tern 0 31,tern 0 32,tern 3 33,tern 3 34,"
    cells = list(zip(*(row.split() for row in (text + "tern 3 35,gull 0 99").split(",")), strict=True))
    table = Table({
        "ship": Column.of_cells("string", cells[0]),
        "month": Column.of_cells("integer", map(int, cells[1])),
        "x": Column.of_cells("integer", map(int, cells[2])),
    })  # fmt: skip
    made = aggregated(table, by=("ship", "month"), stat=("x: n sum",), min_n=3, totals=True)
    assert made.table["x_sum"].cells() == [None, 66, None, 93, 102, None, None, 195, 396]
    assert made.account.notes[0].text == "1 group has fewer than 3 rows; 1 more is suppressed to protect them."
    assert "rows each" not in made.account.summary


def test_a_minimum_size_counts_persons_where_a_case_is_named_and_reports_so_where_not() -> None:
    table = Table({
        "pid": Column.of_cells("integer", [1, 1, 1, 2, 2, 2, 3, 4, 5, 6, 7, 8]),
        "wave": Column.of_cells("integer", [1, 2, 3, 1, 2, 3, 1, 1, 1, 1, 1, 1]),
        "ship": Column.of_cells("string", ["auk"] * 6 + ["tern"] * 6),
        "x": Column.of_cells("integer", [1] * 12),
    })  # fmt: skip
    by_rows = aggregated(table, by=("ship",), stat=("x: mean",), min_n=5)
    assert by_rows.table["x_mean"].cells() == [1.0, 1.0]
    assert [note.kind for note in by_rows.account.notes] == ["rows-not-cases"]
    by_cases = aggregated(table, by=("ship",), stat=("x: mean",), min_n=5, case=("pid",))
    assert by_cases.table["x_mean"].cells() == [None, 1.0]
    # With the number of values another group goes too: 12 less 6 would be the hidden number.
    assert aggregated(table, by=("ship",), stat=("x: n",), min_n=5, case=("pid",)).table["x_n"].cells() == [None, None]


def test_a_spread_that_is_undefined_does_not_show_of_one_person() -> None:
    table = Table({
        "g": Column.of_cells("string", ["a", "b", "b", "b"]),
        "x": Column.of_cells("number", [1.0, 2, 3, 4]),
    })  # fmt: skip
    made = aggregated(table, by=("g",), stat=("x: sd",), min_n=2).table["x_sd"]
    assert made.reason_counts() == {"suppressed": 1}


def test_numbers_that_equations_determine() -> None:
    equations = np.array([[1.0, 1, 1, -1], [1, -1, 0, 0]])
    for hidden in itertools.product([False, True], repeat=4):
        known = np.eye(4)[~np.array(hidden)]
        every = np.vstack([equations, known])
        expected = [
            one and np.linalg.matrix_rank(np.vstack([every, np.eye(4)[at]])) == np.linalg.matrix_rank(every)
            for at, one in enumerate(hidden)
        ]
        assert find_determined(equations, np.array(hidden)).tolist() == expected
    none = np.zeros(4, np.bool_)
    one = np.array([False, True, False, False])
    assert protect(equations, np.array([2, 2, 9, 13]), one, none).tolist() == [True, True, True, False]
    assert protect(equations, np.array([2, 2, 9, 13]), one, ~one).tolist() == [False, True, False, False]


def test_no_hidden_number_of_who_was_seen_when_can_be_computed() -> None:
    random, some = np.random.default_rng(1), 0
    for _ in range(200):
        seen = random.random((int(random.integers(3, 30)), int(random.integers(1, 6)))) < 0.6
        seen = seen[seen.any(axis=1)]
        times = seen.shape[1]
        before = np.cumsum(seen, axis=1) - seen > 0
        last = np.column_stack([np.zeros(len(seen), np.bool_), seen[:, :-1]])
        kinds = (seen, seen & ~before, seen & before & ~last, before & ~seen)
        numbers = np.array([kind.sum(axis=0) for kind in kinds])
        small = np.column_stack([(numbers > 0) & (numbers < 4), np.zeros(4, np.bool_)])
        hidden = Discretion(4).hide_over_time(numbers, small)
        # Everyone who was seen so far is seen now or was lost; all who came new are all cases.
        equations = np.zeros((times + 1, 4, times))
        for at in range(times):
            equations[at, 0, at] = equations[at, 3, at] = 1
            equations[at, 1, : at + 1] = -1
        equations[times, 1] = 1
        whole = np.column_stack([equations.reshape(times + 1, -1), np.append(np.zeros(times), -1)])
        known = np.vstack([whole, np.eye(len(hidden))[~hidden]])
        for place in np.flatnonzero(hidden):
            some += 1
            assert np.linalg.matrix_rank(np.vstack([known, np.eye(len(hidden))[place]])) > np.linalg.matrix_rank(known)
        assert (hidden[:-1].reshape(4, times) >= small[:, :times]).all()
    assert some > 200
