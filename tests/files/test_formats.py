"""Reading and writing: what goes out comes back, and what cannot be read is told in plain words."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
import tempfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lomrix.core.combining import Run
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.settings import Export
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.files import arrow_file, delimited, descriptor, folder_sink, json_lines, parquet, text_writer, transport
from lomrix.files.companions.plain import make_companion
from lomrix.files.hashing import hash_file
from lomrix.files.interface import ReadResult
from lomrix.files.read_back import compare_file
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_sink, open_source
from lomrix.files.scratch import TableStore
from lomrix.files.text_writer import write_columns
from lomrix.files.transport import receive, send
from tests.tables import lomrix, sources

REASONS = ("blank", "refused", "unmatched", "n/a")
TEXTS = (
    st.text(st.characters(codec="utf-8", exclude_characters="\0\r\n\ufeff"), min_size=1, max_size=6)
    .map(str.strip)
    .filter(bool)
)
VALUES: dict[Type, st.SearchStrategy[object]] = {
    "integer": st.integers(-(10**14), 10**14),
    "number": st.floats(allow_nan=False, allow_infinity=False),
    "string": st.one_of(TEXTS, st.sampled_from(["007", "-9", 'say "aye"', "a,b", "two\nlines", "unmatched", "NA"])),
    "date": st.dates().map(str),
    "boolean": st.booleans(),
    "datetime": st.datetimes().map(lambda moment: str(moment).replace(" ", "T")),
}


@st.composite
def tables(draw: st.DrawFn) -> Table:
    rows = draw(st.integers(1, 6))
    columns = {}
    for at, type_ in enumerate(draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=4))):
        cells = draw(st.lists(VALUES[type_], min_size=rows, max_size=rows))
        why = np.array(draw(st.lists(st.sampled_from([0, 0, 1, 2, 3, 4]), min_size=rows, max_size=rows)), np.uint8)
        column = Column.of_cells(type_, cells)
        for place, reason in enumerate(REASONS, start=1):
            column = column.with_missing(why == place, reason)
        columns[f"v{at}"] = column
    entry = Variable(label="A variable", missing={"-9": "refused"}, unit="min")
    return Table(columns, Dictionary(dict.fromkeys(columns, entry)), name="t")


def write(table: Table, path: Path) -> None:
    sink = open_sink(str(path))
    sink.check()
    sink.stage(table)
    sink.commit()


@pytest.mark.parametrize("suffix", [".csv", ".tsv", ".parquet", ".arrow", ".jsonl"])
@settings(deadline=None, max_examples=25)
@given(made=tables())
def test_a_table_comes_back_with_its_types_reasons_and_labels(suffix: str, made: Table) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"t{suffix}"
        write(made, path)
        back = open_source(str(path), ReadSettings()).read().table
    for name, column in made.columns.items():
        assert column.same_as(back[name]), (column.cells(), back[name].cells())
        assert back.dictionary.of(name).label == "A variable"
        # A code that is a value of the column cannot mean its reason in this file; another text does.
        assert set(back.dictionary.of(name).missing.values()) <= {"refused"}


def run_elsewhere(folder: Path) -> Run:
    """Everything goes through files, as between processes."""

    def run(
        function: Callable[..., Any], arguments: Iterable[tuple[Any, ...]], *, keeps: bool = False
    ) -> Iterator[Any]:
        for values in arguments:
            called, there = receive(send((function, values), Path(tempfile.mkdtemp(dir=folder)) / "sent"))
            yield receive(send(called(*there), Path(tempfile.mkdtemp(dir=folder)) / "back"))

    return run


@contextlib.contextmanager
def in_small_pieces() -> Iterator[None]:
    """Pieces of some bytes of text, or of a row or two."""
    sizes = [(delimited, "PIECE", 9), (json_lines, "LARGE", 9), (json_lines, "BLOCK", 9), (json_lines, "PART", 2)]
    sizes += [(module, name, 2) for module in (parquet, arrow_file) for name in ("PART", "ROWS_AT_ONCE")]
    sizes += [(text_writer, "ROWS_FOR_OTHERS", 2), (folder_sink, "ROWS_IN_A_FILE", 2), (transport, "LARGE", 0)]
    with contextlib.ExitStack() as stack:
        for module, name, size in sizes:
            stack.enter_context(mock.patch.object(module, name, size))
        yield


def read_in_pieces(path: str, folder: Path) -> ReadResult:
    store = TableStore(Path(tempfile.mkdtemp(dir=folder)))
    source = open_source(path, ReadSettings())
    return source.read_into(store, source.names, run_elsewhere(folder))


@pytest.mark.parametrize("name", ["t.csv", "t.tsv", "t.parquet", "t.arrow", "t.jsonl", "t/"])
@settings(deadline=None, max_examples=15)
@given(made=tables())
def test_pieces_that_others_read_and_write_are_the_same(name: str, made: Table) -> None:
    with tempfile.TemporaryDirectory() as text, in_small_pieces():
        folder, written = Path(text), list[dict[str, bytes]]()
        for run in (None, run_elsewhere(folder)):
            sink = open_sink(f"{folder}/{name}", overwrite=True)
            sink.run = run
            sink.check()
            sink.stage(made)
            sink.commit()
            files = sorted((folder / name).iterdir() if name == "t/" else folder.glob("t.*"))
            written.append({file.name: file.read_bytes() for file in files})
        assert written[0] == written[1]
        assert any(made.names[0].encode() in content for content in written[0].values())
        whole = open_source(f"{folder}/{name}", ReadSettings()).read()
        pieces = read_in_pieces(f"{folder}/{name}", folder)
        assert pieces.table.same_as(whole.table)
        assert {note.identity for note in pieces.notes} == {note.identity for note in whole.notes}


@pytest.mark.parametrize(
    "content",
    [
        b"id,x\n1,2\n3,4.5\n\n5,n/a\n7,x\n", b"id,x\r\n1,2024-01-31\r\n2,31.1.2024\r\n", b"\xef\xbb\xbfid,x\n1,2\n3,4",
        b"Crew\n\nid,x\n1,\xc3\xa4\n2,\xc3\xb6\n", b"id,x\n1,\xe4\n2,\xf6\n3,b\n4,c\n",
        b"id,x\n\n\n\n\n\n\n\n\n1,2\n", b"x\n1\n\n3\n\n\n4\n",
        b"id,x\r1,2\r3,4\r5,6\n7,8\n",
        b'id,x\n1,"a\nb"\n2,c\n', b'id,"x"\n1,"a, b"\n"2","c ""d"""\n3,"5"" pipe"\n' * 3,
        "id,x\n1,ä\n2,ö\n".encode("utf-16"), b"id,x\n" + b"1,2\n" * 40 + b"007,3\n",
    ],
)  # fmt: skip
def test_pieces_of_a_text_are_cut_where_rows_end(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "t.csv"
    path.write_bytes(content)
    whole = open_source(str(path), ReadSettings()).read()
    with in_small_pieces():
        pieces = read_in_pieces(str(path), tmp_path)
    assert pieces.table.same_as(whole.table)
    assert sorted(pieces.notes, key=repr) == sorted(whole.notes, key=repr)


def test_a_moment_has_one_text_whatever_others_the_column_has() -> None:
    moments = ["1969-12-31T23:59:59.500000", "2000-01-01T00:00:00", None, "2000-01-01T00:00:00.000001"]
    texts = Column.of_cells("datetime", moments).to_text().to_pylist()
    assert texts == ["1969-12-31 23:59:59.500000", "2000-01-01 00:00:00", None, "2000-01-01 00:00:00.000001"]


def test_a_line_that_is_wrong_is_named_whichever_piece_holds_it(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("id,x\n" + "1,2\n" * 30 + "3,4,5\n" + "6,7\n" * 30)
    (tmp_path / "t.jsonl").write_text('{"id": 1}\n' * 30 + '{"id": }\n' + '{"id": 2}\n' * 30)
    with in_small_pieces():
        for name, where in (("t.csv", "row 32: 3,4,5"), ("t.jsonl", "Line 31 of t.jsonl")):
            with pytest.raises(FileError) as caught:
                read_in_pieces(str(tmp_path / name), tmp_path)
            assert where in caught.value.what + caught.value.where


@settings(deadline=None, max_examples=40)
@given(made=tables(), form=st.sampled_from(["headed", "bare"]))
def test_an_export_read_back_equals_what_was_exported(made: Table, form: str) -> None:
    prepared = Export(form=form, missing_code=("auto",)).apply(sources(made))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "out.csv"
        write_columns(prepared.table.columns, {}, path, ",", header=form == "headed")
        cells = compare_file(prepared.table, path, path, header=form == "headed")
    assert cells == len(made) * len(made.names)
    if form == "bare":
        assert all(column.type in ("integer", "number") for column in prepared.table.columns.values())
        assert not any(column.missing_count for column in prepared.table.columns.values())


def test_a_cell_that_did_not_come_back_is_named(tmp_path: Path) -> None:
    path = tmp_path / "out.csv"
    path.write_text("a,b\n1,x\n2,y\n")
    table = Table({"a": Column.of_cells("integer", [1, 3]), "b": Column.of_cells("string", ["x", "y"])})
    with pytest.raises(FileError) as caught:
        compare_file(table, path, path, header=True)
    assert caught.value.where == "data row 2: 3 was read back as 2"


def test_descriptor_follows_the_open_standard(tmp_path: Path) -> None:
    column = Column.of_cells("integer", [1, 2, None]).with_missing(np.array([False, True, False]), "refused")
    entry = Variable(label="Sex", codes="sex", missing={"-9": "refused"}, minimum=1)
    dictionary = Dictionary({"sex": entry}, {"sex": {"1": "female", "2": "male"}})
    write(Table({"sex": column}, dictionary), tmp_path / "crew.csv")
    assert (tmp_path / "crew.csv").read_text() == "sex\n1\n-9\n\n"
    content = json.loads((tmp_path / "crew.csv.resource.json").read_text())
    assert content["path"] == "crew.csv"
    assert content["bytes"] == 10
    assert content["hash"] == hash_file(tmp_path / "crew.csv")
    assert content["schema"]["fields"] == [
        {
            "name": "sex",
            "type": "integer",
            "title": "Sex",
            "lomrix:codes": "sex",
            "categories": [{"value": 1, "label": "female"}, {"value": 2, "label": "male"}],
            "missingValues": [{"value": "", "label": "blank"}, {"value": "-9", "label": "refused"}],
            "constraints": {"minimum": 1},
        }
    ]


def test_a_parquet_file_of_another_program_is_read(tmp_path: Path) -> None:
    arrow = pa.table(
        {
            "i": pa.array([1, None, 3], pa.int32()),
            "f": pa.array([1.5, float("nan"), None]),
            "e": pa.array([float("inf"), 2.0, float("-inf")]),
            "s": pa.array(["a", "", None]).dictionary_encode(),
            "t": pa.array([0, 1000, None], pa.timestamp("ns", "UTC")),
            "nothing": pa.nulls(3),
        }
    )
    pq.write_table(arrow, tmp_path / "x.parquet")
    whole = open_source(str(tmp_path / "x.parquet"), ReadSettings()).read()
    with in_small_pieces():
        pieces = read_in_pieces(str(tmp_path / "x.parquet"), tmp_path)
    table = whole.table
    assert pieces.table.same_as(table)
    assert table.types() == {
        "i": "integer",
        "f": "number",
        "e": "number",
        "s": "string",
        "t": "datetime",
        "nothing": "string",
    }
    assert table["f"].reason_counts() == {"blank": 1, "undefined": 1}
    assert table["e"].cells() == [None, 2.0, None]
    for result in (whole, pieces):
        assert [(note.column, note.count, [row for row, _ in note.examples]) for note in result.notes] == [
            ("f", 1, [3]), ("e", 2, [2, 4]),
        ]  # fmt: skip


def test_what_is_no_single_value_becomes_text_with_a_note(tmp_path: Path) -> None:
    columns = {
        "l": ([[1, 2], None], ["[1, 2]", None]), "r": ([{"a": "é"}, None], ['{"a": "é"}', None]),
        "t": ([datetime.time(10, 30), None], ["10:30:00", None]), "b": ([b"a\xff", None], ["61ff", None]),
        "d": ([datetime.timedelta(hours=28.5), None], ["28:30:00", None]),
        "u": (pa.array([2**63, 1], pa.uint64()), ["9223372036854775808", "1"]),
        "n": (pa.array([1_001, 2_000], pa.timestamp("ns")),
              [datetime.datetime(1970, 1, 1, microsecond=number) for number in (1, 2)]),
    }  # fmt: skip
    pq.write_table(pa.table({name: values for name, (values, _) in columns.items()}), tmp_path / "x.parquet")
    result = open_source(str(tmp_path / "x.parquet"), ReadSettings()).read()
    assert {name: column.cells() for name, column in result.table.columns.items()} == {
        name: texts for name, (_, texts) in columns.items()
    }
    assert [note.column for note in result.notes] == list(columns)
    assert result.notes[0].text.startswith("kept as text: it holds list<")


@pytest.mark.parametrize(
    ("content", "names", "cells"),
    [
        (b"a;b\n1;x\n2;y\n", ["a", "b"], [1, 2]),
        (b"\xef\xbb\xbfa,b\r\n1,x\r\n2,y\r\n", ["a", "b"], [1, 2]),
        ("a\tb\n1\tx\n2\ty\n".encode("utf-16"), ["a", "b"], [1, 2]),
        ("a,b\n1,Gull\xe9\n2,y\n".encode("cp1252"), ["a", "b"], [1, 2]),
        (b'a,"b\nc"\n1,"x\ny"\n2,y\n', ["a", "b c"], [1, 2]),
        ("\u200ba,b\u00a0\u00a0c,A\u030age\n1,2,3\n".encode(), ["a", "b c", "\u00c5ge"], [1]),
        (b"a\n1\n\n2\n", ["a"], [1, None, 2]),
        (b"a,b\n", ["a", "b"], []),
        (b"a,\n1,x\n", ["a", "column_2"], [1]),
        (b"a|b\n1|x\n2|y", ["a", "b"], [1, 2]),
    ],
)
def test_layouts_are_found(tmp_path: Path, content: bytes, names: list[str], cells: list[object]) -> None:
    (tmp_path / "x.csv").write_bytes(content)
    table = open_source(str(tmp_path / "x.csv"), ReadSettings()).read().table
    assert (table.names, table["a"].cells()) == (names, cells)


@pytest.mark.parametrize(
    ("encoding", "words"),
    [
        ("koi8_r", "Вахта ночная, судно крачка, матрос спал плохо; вахта дневная, судно тупик, матрос спал хорошо"),
        ("cp1253", "Η βάρδια της νύχτας ήταν δύσκολη και ο ναύτης κοιμήθηκε λίγο, η βάρδια της ημέρας ήταν ήσυχη"),
        ("cp1252", "Möwe, Säger, Schnäpper"),
    ],
)
def test_the_encoding_is_found_where_there_is_enough_to_go_by(tmp_path: Path, encoding: str, words: str) -> None:
    (tmp_path / "x.csv").write_bytes(f'id,note\n1,"{words}"\n'.encode(encoding))
    assert open_source(str(tmp_path / "x.csv"), ReadSettings()).read().table["note"].cells() == [words]


@pytest.mark.parametrize(
    ("content", "what", "where"),
    [
        (b"", "is empty", ""),
        (b" \n\n", "is empty", ""),
        (b"a,b\n1,2\n3,4,5\n", "has 3 cells, the header has 2", "row 3: 3,4,5"),
        (b"a,b\n1,2\n\n3\n", "has 1 cell, the header has 2", "row 4: 3"),
        (b"a,b,a\n1,2,3\n", "a occurs twice", "row 1, columns 1 and 3"),
        (b"a,b\n1,2\x003\n", "NUL bytes", "byte 8"),
        (b"PK\x03\x04\x00\x00\n", "zip file", ""),
        (b'a,b\n1,2\n3,"open\n4,5\n', "is unclosed", "row 3"),
    ],
)
def test_unreadable_files_are_reported(tmp_path: Path, content: bytes, what: str, where: str) -> None:
    (tmp_path / "x.csv").write_bytes(content)
    with pytest.raises(FileError) as caught:
        open_source(str(tmp_path / "x.csv"), ReadSettings()).read()
    assert what in caught.value.what
    assert where in caught.value.where
    assert caught.value.todo


def test_bytes_that_cannot_be_decoded_are_placed(tmp_path: Path) -> None:
    (tmp_path / "x.csv").write_bytes(b"a,b\n1,ok\n2,\xff\xfe\n")
    with pytest.raises(FileError) as caught:
        open_source(str(tmp_path / "x.csv"), ReadSettings(encoding="utf-8")).read()
    assert "line 3" in caught.value.where


def test_companion_text_is_wrapped_and_complete() -> None:
    names = {f"a_rather_long_name_{at}": Column.of_cells("integer", [at, None]) for at in range(12)}
    table = Table({"ship": Column.of_cells("string", ["tern", "gull"]), **names})
    prepared = Export(form="bare").apply(sources(table))
    (ready,) = prepared.extras["prepared"]
    text = make_companion(ready, Path("out.dat"), " ", has_header=False, form=TextForm())
    assert max(map(len, text.splitlines())) <= 72
    assert "Missing cells: -9" in text
    assert "1 gull" in text
    assert "2 tern" in text
    assert text.replace("\n  ", " ").count("a_rather_long_name_") == 12


def test_a_missing_code_in_use_is_refused_and_a_free_one_taken() -> None:
    table = Table({"x": Column.of_cells("integer", [-9, None]), "y": Column.of_cells("number", [-99.0, None])})
    from lomrix.core.errors import DataError

    with pytest.raises(DataError) as caught:
        Export(missing_code=("-9",)).apply(sources(table))
    assert "it is a value of x" in caught.value.what
    assert "-999 is free" in caught.value.todo
    prepared = Export(form="bare", missing_code=("auto",)).apply(sources(table))
    assert prepared.extras["prepared"][0].missing.everywhere == "-999"
    assert prepared.table["y"].cells() == [-99.0, -999.0]


def test_codes_by_reason() -> None:
    column = Column.of_cells("integer", [1, None, None]).with_missing(np.array([False, True, False]), "x")
    refused = Column("integer", column.stored, np.array([0, 2, 1], np.uint8), ("blank", "refused"))
    made = Export(missing_code=("-9", "refused=-8")).apply(sources(Table({"x": refused}))).table
    assert made["x"].cells() == [1, -8, -9]
    made = Export(missing_code=("refused=-8",)).apply(sources(Table({"x": refused}))).table
    assert made["x"].cells() == [1, -8, None]


@pytest.mark.parametrize("rows", [0, 1, 3, 4, 10])
def test_parquet_is_the_same_in_any_number_of_parts(rows: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    why = np.arange(rows, dtype=np.uint8) % 3
    made = Table({
        "id": Column.of_strings(None, Pool(pa.array([f"k{at}" for at in range(rows)], pa.large_string()))),
        "x": Column.of("integer", np.arange(rows), why, ("refused", "blank")),
        "y": Column.of("number", np.arange(rows) / 2, (why == 1).astype(np.uint8), ("refused",)),
        "mood": Column.of_strings(np.zeros(rows, np.int32), Pool.of(["low"]), why, ("refused", "blank")),
    })  # fmt: skip
    monkeypatch.setattr(parquet, "PART", 3)
    path = tmp_path / "made.parquet"
    write(made, path)
    assert open_source(str(path), ReadSettings()).read().table.same_as(made)


def test_a_text_of_one_column_comes_back_whatever_its_cells_hold(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text('remark\n"a, b"\n"c, d"\n')
    lomrix("subset", "a.csv", "--out", "b.txt", cwd=tmp_path)
    out, _ = lomrix("subset", "b.txt", "--out", "-", "--quiet", cwd=tmp_path)
    assert out == (tmp_path / "a.csv").read_text()
    (tmp_path / "c.csv").write_text("a;b\nx;y\n")
    lomrix("subset", "c.csv", "--delimiter", ",", "--out", "d.csv", cwd=tmp_path)
    assert lomrix("subset", "d.csv", "--out", "-", "--quiet", cwd=tmp_path)[0] == "a;b\nx;y\n"


@pytest.mark.parametrize("ending", [".csv", ".jsonl", ".xlsx", ".parquet", ".arrow"])
def test_a_file_name_that_is_not_a_utf8_is_written_or_refused_plainly(tmp_path: Path, ending: str) -> None:
    (tmp_path / os.fsdecode(b"a\xe9.csv")).write_text("id,x\n1,5\n")
    name = os.fsdecode(b"b\xff") + ending
    refused = ending in (".parquet", ".arrow")
    _, errors = lomrix("subset", os.fsdecode(b"a\xe9.csv"), "--out", name, cwd=tmp_path, status=3 if refused else 0)
    if refused:
        assert "cannot be written in this format: its name is not UTF-8." in errors
        assert len(list(tmp_path.iterdir())) == 1
        return
    described = json.loads((tmp_path / (name + ".resource.json")).read_bytes())
    assert described["path"] == "b\\xff" + ending
    (task,) = described[descriptor.HISTORY]["tasks"].values()
    assert task["inputs"][0]["path"] == "a\\xe9.csv"


TEXT_ONLY = (["--delimiter", ";"], ["--encoding", "latin-1"])
CELLS_ONLY = (["--decimal", ","], ["--thousands", ","], ["--skip-last", "1"], ["--header-rows", "1"], ["--no-header"])


@pytest.mark.parametrize(
    ("suffix", "options"),
    [("parquet", each) for each in (*TEXT_ONLY, *CELLS_ONLY)] + [("jsonl", each) for each in CELLS_ONLY]
    + [("xlsx", each) for each in TEXT_ONLY],
)  # fmt: skip
def test_a_reading_option_without_effect_is_refused(tmp_path: Path, suffix: str, options: list[str]) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,5\n")
    lomrix("subset", "a.csv", "--columns", "id,x", "--out", f"a.{suffix}", cwd=tmp_path)
    _, error = lomrix("profile", f"a.{suffix}", *options, cwd=tmp_path, status=2)
    assert error.splitlines()[0] == f"error  {options[0]} does not apply to a.{suffix}."
    assert error == lomrix("dictionary", "draft", f"a.{suffix}", *options, cwd=tmp_path, status=2)[1]
    # Beside a file that it applies to it is accepted, and a study file may set it for others.
    lomrix("stack", f"a.{suffix}", "a.csv", *options, cwd=tmp_path)
    (tmp_path / "study.toml").write_text('decimal = ","\nencoding = "latin-1"\n')
    assert "5 to 5" in lomrix("profile", f"a.{suffix}", cwd=tmp_path)[0]


@pytest.mark.parametrize("suffix", ["csv", "parquet", "arrow", "jsonl", "xlsx"])
def test_a_stated_type_and_missing_texts_apply_to_every_format(tmp_path: Path, suffix: str) -> None:
    (tmp_path / "a.csv").write_text("id,x,day\n1,7,2024\n2,-9,2025\n")
    lomrix("subset", "a.csv", "--columns", "id,x,day", "--out", f"b.{suffix}", cwd=tmp_path)
    options = ["--missing-text=-9", "--type", "x=string", "--type", "day=date:%Y"]
    output = lomrix("profile", f"b.{suffix}", *options, cwd=tmp_path)[0]
    assert [line.split()[:4] for line in output.splitlines() if line.split()[:1] in (["x"], ["day"])] == [
        ["x", "string", "1", "-9"], ["day", "date", "none", "2"],
    ]  # fmt: skip


def test_midnights_are_days_where_that_is_stated(tmp_path: Path) -> None:
    days = [datetime.datetime(2024, 1, 31), None]
    times = [datetime.datetime(2024, 1, 31, 10, 30), datetime.datetime(2024, 2, 1)]
    pq.write_table(pa.table({"day": days, "time": times}), tmp_path / "a.parquet")
    options = ["--type", "day=date", "--type", "time=date"]
    output = lomrix("profile", "a.parquet", *options, cwd=tmp_path)[0]
    assert [line.split()[1] for line in output.splitlines() if line.split()[:1] in (["day"], ["time"])] == [
        "date", "datetime",
    ]  # fmt: skip
    note = '  ! a.time: kept as timestamps: 1 cell has a time of day. (row 2 "2024-01-31 10:30:00")'
    assert output.splitlines()[-1] == note


def test_a_plan_reads_the_table_of_a_step_as_its_file(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,7\n2,-9\n3,\n")
    made = []
    for out in ("", 'out = "b.csv"\n'):
        (tmp_path / "p.toml").write_text(
            f'[[steps]]\ndo = "subset"\nname = "one"\nfrom = "a.csv"\ncolumns = "x"\n{out}'
            '[[steps]]\ndo = "aggregate"\nfrom = "one"\nby = ["x"]\nstat = ["x: n"]\nmissing_text = ["-9"]\n'
            'type = ["x=string"]\nout = "c.csv"\n'
        )
        if out:
            (tmp_path / "c.csv").write_text("mine")
            error = lomrix("run", "p.toml", cwd=tmp_path, status=3)[1]
            assert "next   Add --overwrite to replace it, or use another name." in error
        lomrix("run", "p.toml", "--overwrite", cwd=tmp_path)
        made.append((tmp_path / "c.csv").read_text())
    assert made[0] == made[1] == "x,x_n\n7,1\n"


def test_only_texts_that_occur_make_quotation_marks(tmp_path: Path) -> None:
    cells = Column.of_strings(np.array([1, 1], np.int32), Pool.of(["a,b", "c"]))
    write(Table({"t": cells}), tmp_path / "a.csv")
    assert (tmp_path / "a.csv").read_text() == "t\nc\nc\n"


@pytest.mark.parametrize("distinct", [300, 9_000])
def test_equal_cells_give_equal_parquet_however_they_are_in_memory(tmp_path: Path, distinct: int) -> None:
    texts = pa.array([f"text {row % distinct}" for row in range(12_000)], pa.large_string())
    column = Column.of_strings(None, Pool(texts))
    for name, cells in (("a", column), ("b", column.encode())):
        (tmp_path / name).mkdir()
        write(Table({"t": cells}), tmp_path / name / "t.parquet")
    assert (tmp_path / "a" / "t.parquet").read_bytes() == (tmp_path / "b" / "t.parquet").read_bytes()
