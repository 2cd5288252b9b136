"""What a profile points at."""

from __future__ import annotations

from pathlib import Path

from lomrix.core.steps.profile.settings import Profile
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.tables import lomrix, sources, table


def test_texts_that_differ_by_capitals_or_blanks_are_reported() -> None:
    notes = (
        Profile().apply(sources(table(race=["carnica", "CARNICA", "carnica", "ligustica", "Buckfast "]))).account.notes
    )
    assert [note.text for note in notes if note.kind == "nearly-same"] == [
        'texts that differ only in capitals or spaces: "carnica" (2), "CARNICA" (1).'
    ]


def test_an_id_of_numbers_that_nearly_is_a_key_is_reported_where_it_fails() -> None:
    ids = [*range(99), 7]
    notes = Profile().apply(sources(table(id=ids, x=ids))).account.notes
    assert [(note.column, note.examples[0]) for note in notes if note.kind == "nearly-key"] == [("id", (9, "7"))]


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
