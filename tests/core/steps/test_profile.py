"""What a profile points at."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.rows import column_survey, occurrences
from lomrix.core.rows.candidate_keys import find_candidate_keys
from lomrix.core.rows.occurrences import count_occurrences, is_unique
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.profile.settings import Profile
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, lomrix, sources, table


def test_texts_that_differ_by_capitals_or_blanks_are_reported() -> None:
    notes = (
        Profile().apply(sources(table(race=["carnica", "CARNICA", "carnica", "ligustica", "Buckfast "]))).account.notes
    )
    assert [note.text for note in notes if note.kind == "nearly-same"] == [
        'texts that differ only in capitals or spaces: "carnica" (2), "CARNICA" (1).'
    ]


def find_near_keys(table: Table) -> list[Note]:
    return [note for note in Profile().apply(sources(table)).account.notes if note.kind == "nearly-key"]


def test_columns_that_are_nearly_a_key() -> None:
    ids = [f"K{at:03d}" for at in range(100)]
    made = table(id=[*ids[:-1], ids[0]], x=[1, 2] * 50, day=list(range(100)))
    assert find_candidate_keys(made) == ["day"]
    (note,) = find_near_keys(made)
    assert note.text == "nearly a key, but 1 value is in several rows."
    assert (note.column, note.count, note.examples) == ("id", 2, ((2, "K000"), (101, "K000")))
    (note,) = find_near_keys(table(id=[*ids[:-2], ids[0], ids[1]]))
    assert note.text == "nearly a key, but 2 values are in several rows."
    assert find_near_keys(table(id=[*ids[:-3], *ids[:3]])) == []  # 97 of 100 are too few
    assert find_near_keys(table(id=ids)) == []
    assert find_near_keys(table(id=ids[:10] + ids[:1])) == []
    (note,) = find_near_keys(table(id=[*range(99), 7], x=[*range(99), 7]))  # a first column of numbers
    assert (note.column, note.examples[0]) == ("id", (9, "7"))


@given(
    st.lists(st.tuples(st.sampled_from([None, "a", "b", "c10", "Å"]), st.sampled_from([None, 0.5, 1, 3, 1e300])),
             min_size=1, max_size=30),
    st.integers(1, 9), st.integers(1, 7), st.sampled_from(["s", "x"]),
)  # fmt: skip
def test_values_are_counted_alike_in_any_number_of_passes(
    cells: list[tuple[str | None, float | None]], most: int, block: int, name: str
) -> None:
    made = Table({
        "s": Column.of_cells("string", [cell[0] for cell in cells]),
        "x": Column.of_cells("number", [cell[1] for cell in cells]),
    })  # fmt: skip
    counts = Counter(value for value in made[name].cells() if value is not None)
    with mock.patch.object(occurrences, "BLOCK", block):
        counted = count_occurrences(made[name], most)
        assert is_unique(made, [name], most) == (len(counts) == len(cells))
        assert is_unique(made, ["s", "x"], most) == (len({cell for cell in cells if None not in cell}) == len(cells))
    repeated = [count for count in counts.values() if count > 1]
    assert (counted.distinct, counted.repeated, counted.repeated_rows) == (len(counts), len(repeated), sum(repeated))
    first = [(count, made[name].cells().index(value)) for value, count in counts.items()]
    assert [*counted.most_frequent] == sorted(first, key=lambda pair: (-pair[0], pair[1]))[:8]


def test_many_values_are_counted_over_all_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(column_survey, "MOST_DISTINCT", 3)
    monkeypatch.setattr(column_survey, "MOST_ENDS", 3)
    ids = [f"K{at // 3:02d}" for at in (5, *range(120))]
    made = table(
        id=ids, x=[-9, *range(20, 60), 999, *range(60, 139)], y=[*map(float, range(120)), 0.5], z=[*range(10, 130), 10]
    )
    whole = apply_in_parts(Profile(), sources(made), (), 7)
    assert [row[3:5] for row in whole.account.listings[0].rows] == [
        (40, "K01 (4), K00 (3), K02 (3), K03 (3) …"), (121, "-9 to 999"), (121, "0 to 119"), (120, "10 to 129"),
    ]  # fmt: skip
    assert [(note.kind, note.column, note.count, note.examples[:2]) for note in whole.account.notes] == [
        ("missing-code", "x", 2, ((2, None), (43, None))), ("mixed-decimals", "y", 1, ((122, 0.5),))
    ]  # fmt: skip


def test_values_without_a_label_are_counted_though_they_come_late() -> None:
    known = Dictionary({"watch": Variable(codes="watches")}, {"watches": {"1": "day"}})
    watches = [1] * 5 + [3] * 1500 + [4, 5] * 5
    notes = Profile().apply(sources(table(dictionary=known, watch=watches))).account.notes
    assert [(note.text, note.count) for note in notes] == [("values without a label: 3, 4, 5.", 3)]


def test_labels_of_a_family_are_reported_once(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,s_m0,s_m3\n1,2,3\n2,4,5\n")
    (tmp_path / "d.toml").write_text('[variables."s_m{month}"]\nlabel = "Sleep in 24 hours, month {month}"\n')
    out, _ = lomrix("profile", "a.csv", "-d", "d.toml", cwd=tmp_path)
    assert out.count("Sleep in 24 hours") == 2 and "… month 3" in out


def test_a_run_without_end_is_refused_at_once(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x1\n1,2\n")
    _, err = lomrix("subset", "a.csv", "--columns", "x1..x99999999999", cwd=tmp_path, status=2)
    assert "x2" in err


@pytest.mark.parametrize(
    ("name", "days", "day", "operand"),
    [
        ("visit_date", [45321, None, 45344], "45321 is 2024-01-30", "visit_date"),
        ("Date of visit", [36526], "36526 is 2000-01-01", "column('Date of visit')"),
        ("steps", [45321, 45344], "", ""),
        ("days", [45321], "", ""),
        ("visit_date", [45321, 99999], "", ""),
        ("visit_date", [45321.5], "", ""),
    ],
)
def test_days_as_spreadsheets_count_them_are_noted(name: str, days: list[float | None], day: str, operand: str) -> None:
    notes = [note.text for note in Profile().apply(sources(Table({name: column(days)}))).account.notes]
    text = f"looks like days as spreadsheets count them ({day}); if so, derive the date: date('1899-12-30') + {operand}"
    assert notes == ([text] if day else [])
