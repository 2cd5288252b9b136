"""Missing cells in files: empty or coded there, told apart in the descriptor, dropped where it cannot be known."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.files import arrow_form
from lomrix.files.interface import ReadResult
from lomrix.files.missing import MissingPlan, apply_reasons, count_runs, format_runs, parse_runs, plan_missing
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_sink, open_source
from tests.tables import reasons

WHYS = st.lists(st.sampled_from([0, 0, 1, 1, 1, 2, 3]), max_size=30)


def column_of(why: list[int]) -> Column:
    return Column.of("integer", np.arange(len(why)), np.array(why, np.uint8), ("blank", "refused", "unmatched"))


@given(WHYS)
def test_runs_name_the_rows_of_a_reason(why: list[int]) -> None:
    column = column_of(why)
    for number, reason in enumerate(("blank", "refused", "unmatched"), start=1):
        rows = [row for row, one in enumerate(why) if one == number]
        assert parse_runs(format_runs(column, reason), len(why)).tolist() == rows
    starts = sum(one != 0 and (row == 0 or why[row - 1] != one) for row, one in enumerate(why))
    assert count_runs(column) == starts


def test_runs_by_hand() -> None:
    # A sheet counts the header as row 1, so the first cell stands in row 2.
    column = column_of([1, 2, 2, 2, 0, 2, 1])
    assert format_runs(column, "refused") == "3-5 7"
    assert plan_missing(column, Variable()) == MissingPlan({}, "refused", {"blank": "2 8"})
    assert plan_missing(column, Variable(missing={"-9": "refused"})) == MissingPlan({"refused": "-9"}, "blank", {})
    # A code that is a value of the column cannot mean a reason.
    assert plan_missing(column, Variable(missing={"4": "refused"})) == MissingPlan({}, "refused", {"blank": "2 8"})
    assert plan_missing(column, Variable(), "words").texts == {"refused": "refused"}


@pytest.mark.parametrize("text", ["", "x", "1-", "-3", "9-2", "0", "1", "99999999999999999999", "5-900", "2 x 4"])
def test_runs_that_make_no_sense_name_no_rows_but_their_own(text: str) -> None:
    assert parse_runs(text, 5).tolist() == {"2 x 4": [0, 2]}.get(text, [])


def test_runs_speak_of_empty_cells_only() -> None:
    read = Column.of("integer", np.array([5, 0, 7]), np.array([0, 1, 0], np.uint8), ("blank",))
    made = apply_reasons(read, MissingPlan({}, "blank", {"refused": "2-4"}))
    assert reasons(made) == [None, "refused", None]


def several() -> Table:
    x = column_of([1, 2, 3, 0, 2]).with_missing(np.zeros(5, np.bool_), "blank")
    one = Column.of("number", np.arange(5) / 2, np.array([0, 1, 0, 1, 0], np.uint8), ("no-occasion",))
    text = Column.of_strings(np.zeros(5, np.int32), Pool.of(["low"]), x.why, x.reasons)
    dictionary = Dictionary({"x": Variable(label="X", missing={"-9": "refused"})})
    return Table({"x": x, "one": one, "text": text}, dictionary, name="t")


def written(folder: Path, suffix: str) -> Path:
    path = folder / f"t{suffix}"
    sink = open_sink(str(path))
    sink.stage(several())
    sink.commit()
    return path


def read(path: Path, **asked: object) -> ReadResult:
    return open_source(str(path), ReadSettings()).read(**asked)  # type: ignore[arg-type]


@pytest.mark.parametrize("suffix", [".csv", ".tsv", ".txt", ".parquet", ".arrow", ".jsonl", ".xlsx"])
@pytest.mark.parametrize("few_runs", [0, 1000])
def test_reasons_come_back_cell_by_cell(
    tmp_path: Path, suffix: str, few_runs: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(arrow_form, "FEW_RUNS", few_runs)
    found = read(written(tmp_path, suffix))
    assert not found.notes
    for name, column in several().columns.items():
        assert reasons(found.table[name]) == reasons(column), name
    part = read(tmp_path / f"t{suffix}", columns=["text", "x"], rows=range(1, 4)).table
    assert part.names == ["x", "text"]
    assert reasons(part["x"]) == ["refused", "unmatched", None]
    assert reasons(part["text"]) == ["refused", "unmatched", None]


def test_a_written_text_file_has_numbers_and_empty_cells(tmp_path: Path) -> None:
    path = written(tmp_path, ".csv")
    assert path.read_text() == "x,one,text\n,0,\n-9,,\n,1,\n3,,low\n-9,2,\n"
    fields = json.loads((tmp_path / "t.csv.resource.json").read_text())["schema"]["fields"]
    assert fields[0]["missingValues"] == [{"value": "", "label": "blank"}, {"value": "-9", "label": "refused"}]
    assert fields[0]["lomrix:missing-rows"] == {"unmatched": "4"}
    assert fields[1]["missingValues"] == [{"value": "", "label": "no-occasion"}]


@pytest.mark.parametrize("few_runs", [0, 1000])
def test_other_programs_see_nulls_and_one_column_per_variable(
    tmp_path: Path, few_runs: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(arrow_form, "FEW_RUNS", few_runs)
    arrow = pq.read_table(written(tmp_path, ".parquet"))
    assert arrow.column_names == ["x", "one", "text", *(["_why"] if few_runs == 0 else [])]
    assert arrow.column("x").to_pylist() == [None, None, None, 3, None]
    assert arrow.schema.field("x").type == pa.int64()


def test_a_column_of_the_users_with_the_packed_name_is_not_a_reason(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(arrow_form, "FEW_RUNS", 0)
    own = Column.of_cells("string", ["a", "b", "c", "d", "e"])
    made = Table({**several().columns, "_why": own, "x.reason": own}, name="t")
    sink = open_sink(str(tmp_path / "t.parquet"))
    sink.stage(made)
    sink.commit()
    back = read(tmp_path / "t.parquet").table
    assert back.names == ["x", "one", "text", "_why", "x.reason"]
    assert back["_why"].cells() == ["a", "b", "c", "d", "e"]


def test_a_file_changed_by_hand_loses_reasons_and_reports_so(tmp_path: Path) -> None:
    path = written(tmp_path, ".csv")
    path.write_text(path.read_text().replace("3,,", "4,,"))  # the same size, another hash
    found = read(path)
    assert [note.kind for note in found.notes] == ["changed"]
    assert reasons(found.table["x"]) == ["blank", "refused", "blank", None, "refused"]
    assert found.table.dictionary.of("x").label == "X"
    path.write_text("other\n1\n")
    assert [note.kind for note in read(path).notes] == ["descriptor"]
