"""Taking away what names a person: alike in every file, and nothing of it left anywhere."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from lomrix.core.errors import UsageError
from lomrix.core.rows import distinct_sample
from lomrix.core.rows.distinct_sample import DistinctSample
from lomrix.core.steps.deidentify.settings import Deidentify
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, lomrix, table, unnaming


@given(st.lists(st.integers(0, 99), min_size=1, unique=True), st.data())
def test_a_person_gets_the_same_id_in_every_file(people: list[int], data: st.DataObject) -> None:
    some = data.draw(st.lists(st.sampled_from(people), min_size=1))
    step, days = Deidentify(id="id", shift="day"), datetime.date(2024, 1, 1)

    def unnamed(ids: list[int]) -> dict[int, tuple[str, int]]:
        day = Column.of_cells("date", [days] * len(ids))
        made = step.apply(unnaming(Table({"id": column(ids), "day": day})))
        linkage = made.extras["linkage"]
        names = (linkage[name].cells() for name in ("id", "new_id", "shifted_days"))
        return {old: (new, shift) for old, new, shift in zip(*names, strict=True)}

    whole, part = unnamed(people), unnamed(some)
    assert part == {old: whole[old] for old in some}
    assert len({new for new, _ in whole.values()}) == len(people)
    assert all(not new.isdigit() and len(new) == 12 for new, _ in whole.values())


def test_two_safe_files_merge_as_the_named_ones_do(tmp_path: Path) -> None:
    (tmp_path / "k").mkdir()
    (tmp_path / "a.csv").write_text("id,x\n" + "".join(f"P{at},{at}\n" for at in range(50)))
    (tmp_path / "b.csv").write_text("id,y\n" + "".join(f"P{at},{at}\n" for at in range(10, 60, 2)))
    for name in "ab":
        words = ["--id", "id", "--seed", "k/seed", "--linkage", f"k/{name}.csv", "--out", f"safe_{name}.csv"]
        lomrix("deidentify", f"{name}.csv", *words, cwd=tmp_path)
    lomrix("merge", "safe_a.csv", "safe_b.csv", "--key", "id", "--rows", "matched", "--out", "m.csv", cwd=tmp_path)
    pairs = [line.split(",")[1:] for line in (tmp_path / "m.csv").read_text().splitlines()[1:]]
    assert sorted(pairs) == sorted([str(at), str(at)] for at in range(10, 50, 2))


def test_nothing_of_a_name_stays_in_any_file(tmp_path: Path) -> None:
    for folder in ("k", "safe"):
        (tmp_path / folder).mkdir()
    (tmp_path / "p.csv").write_text(
        "id,name,d,remark\nPer-01,Zebediah,2024-01-02,saw ZEBEDIAH on deck\nPer-02,Wilhelmina,2024-03-05,ok\n"
    )
    (tmp_path / "d.toml").write_text(
        '[variables.id]\nlabel = "who"\nallowed = ["Per-01", "Per-02"]\ncodes = "people"\n'
        '[variables.d]\nminimum = 2024-01-02\nmaximum = 2024-03-05\n[variables.name]\nallowed = ["Zebediah"]\n'
        '[codes.people]\n"Per-01" = "Zebediah"\n"Per-02" = "Wilhelmina"\n[rules]\nnamed = "name != \'Zebediah\'"\n'
    )
    lomrix("recode", "p.csv", "-d", "d.toml", "--map", "name: Bo=Wilhelmina", "--out", "q.csv", cwd=tmp_path)
    for out in ("o.csv", "o.parquet", "o.arrow", "o.jsonl", "o.xlsx"):
        words = [
            "--id",
            "id",
            "--remove",
            "name",
            "--shift",
            "d",
            "--seed",
            "k/s",
            "--linkage",
            "k/l.csv",
            "--overwrite",
        ]
        output, _ = lomrix("deidentify", "q.csv", *words, "--out", f"safe/{out}", cwd=tmp_path)
        assert "remark: 1 cell holds a text of the column name" in output
    lomrix("subset", "safe/o.csv", "--without", "remark", "--out", "safe/p.csv", cwd=tmp_path)
    for path in (tmp_path / "safe").iterdir():
        content = path.read_bytes()
        words_left = [b"Wilhelmina", b"Per-0", b"2024-01-02", b"2024-03-05", b"k/l.csv"]
        assert not [word for word in words_left if word in content], path.name
    assert b"who" in (tmp_path / "safe/p.csv.resource.json").read_bytes()
    assert b"Zebediah" not in (tmp_path / "safe/p.csv.resource.json").read_bytes()


@pytest.mark.parametrize("changed", [{"shift": "d"}, {"coarsen": "d=10", "on_day": "2024-01-01"}])
def test_a_column_is_removed_or_changed(changed: dict[str, Any]) -> None:
    people = Table({"id": column(["a", "b"]), "d": Column.of_cells("date", [datetime.date(2000, 1, 1), None])})
    with pytest.raises(UsageError, match="d is removed"):
        Deidentify(id="id", remove="d", **changed).apply(unnaming(people))
    made = Deidentify(id="id", **changed).apply(unnaming(people)).table
    assert made["d"].missing_count == 1


def test_an_id_written_inside_another_column_is_reported() -> None:
    people = table(id=["A77", "B12"], remark=["twin of b12", "ok"], dictionary=Dictionary({"id": Variable()}))
    notes = Deidentify(id="id").apply(unnaming(people)).account.notes
    assert [(note.column, note.count) for note in notes if note.kind == "names-left"] == [("remark", 1)]


def test_texts_are_those_of_the_last_column_that_held_them_and_ids_are_linked_once() -> None:
    people = table(id=["a", "a", "b"], first=["Berg", "Ann", "Bo"], last=["Holm", "Berg", "Lund"],
                   remark=["saw Berg", "saw Ann", "saw nobody"])  # fmt: skip
    result = Deidentify(id="id", remove="first,last").apply(unnaming(people))
    texts = sorted(note.text for note in result.account.notes if note.kind == "names-left")
    assert [text.split(", which")[0] for text in texts] == [
        "1 cell holds a text of the column first", "1 cell holds a text of the column last"
    ]  # fmt: skip
    assert len(result.extras["linkage"]) == 3  # a row for each, with its names
    assert Deidentify(id="id").apply(unnaming(people)).extras["linkage"]["id"].cells() in (["a", "b"], ["b", "a"])


@given(st.lists(st.integers(0, 30), max_size=60), st.integers(0, 60), st.integers(1, 12))
@example([*range(5), *range(5, 30)], 5, 6)
def test_a_sample_of_distinct_values_does_not_depend_on_the_parts(values: list[int], cut: int, most: int) -> None:
    cells = np.array(values, np.int64)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(distinct_sample, "MOST_DISTINCT", most)
        whole, first, second = (
            DistinctSample.of(Column.of("integer", part), part % 2 == 0) for part in (cells, cells[:cut], cells[cut:])
        )
        both = first.combine(second)
    assert (both.present, both.bits) == (len(cells), whole.bits)
    for name in ("hashes", "counts", "is_marked"):
        assert getattr(both, name).tolist() == getattr(whole, name).tolist()
    distinct = len(set(values))
    assert len(whole.hashes) <= most if distinct > most else len(whole.hashes) == distinct


def test_names_with_braces_are_names() -> None:
    made = Deidentify(id="{x}").apply(unnaming(Table({"{x}": column(["a"])})))
    assert made.account.summary == "1 id of {x} became a new one, the same in every file of this secret."
