"""Text of fixed width as a source: cut by its layout, and what an export wrote comes back."""

from __future__ import annotations

import datetime
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import lomrix
from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.interface import ReadResult
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from tests.tables import rows

LAYOUT = "name,start,end,label\nid,1,3,Crew id\nsex,4,4,\nborn,6,15,\n"
DAY = datetime.date(1990, 3, 1)


def read(folder: Path, text: str, layout: str = LAYOUT, name: str = "raw.dat") -> ReadResult:
    (folder / name).write_bytes(text.encode())
    (folder / "raw.layout.csv").write_text(layout)
    return open_source(str(folder / name), ReadSettings()).read()


@pytest.mark.parametrize("name", ["raw.dat", "raw.txt"])
@pytest.mark.parametrize("end", ["\n", "\r\n", "\r\n\x1a", ""])
def test_cells_are_cut_where_the_layout_says(tmp_path: Path, name: str, end: str) -> None:
    found = read(tmp_path, f"001F 1990-03-01\n02  \nØ3 M 1990-03-01 ..{end}", name=name)
    assert rows(found.table) == [("001", "F", DAY), ("02", None, None), ("Ø3", "M", DAY)]
    assert found.table.first_row == 1 and found.table.dictionary.of("id").label == "Crew id"
    assert [(note.kind, note.examples[0][0]) for note in found.notes] == [("behind-layout", 3)]


def test_a_row_may_take_several_lines(tmp_path: Path) -> None:
    layout = "name,line,start,width\na,1,1,2\nc,2,3,1\nb,2,1,2\n"
    assert (
        rows(read(tmp_path, "1 \n 25\n3 \n", layout.replace("2,1,2", "1,1,2").replace("2,3", "1,3")).table)[0][0] == 1
    )
    assert rows(read(tmp_path, "1 \n 25\n 3\n4 6\n", layout).table) == [(1, 5, 2), (3, 6, 4)]
    with pytest.raises(FileError, match="3 lines, which 2 lines for each row do not divide"):
        read(tmp_path, "1\n2\n3\n", layout)


@pytest.mark.parametrize(
    ("layout", "what"),
    [
        ("id,start\na,1\n", "raw.layout.csv has no column name."),
        ("name,start,width\n", "raw.layout.csv names no column."),
        *((f"name,start,width\na,1,2\n{row}\n", "A row of raw.layout.csv does not give a name of its own")
          for row in ("b,x,1", "b,0,1", "a,3,1", ",3,1", "b,3,")),
    ],
)  # fmt: skip
def test_a_layout_that_says_nothing_is_an_error(tmp_path: Path, layout: str, what: str) -> None:
    with pytest.raises(FileError) as stopped:
        read(tmp_path, "123\n", layout)
    assert stopped.value.what.startswith(what)


def test_without_a_layout_or_with_other_letters_it_is_named(tmp_path: Path) -> None:
    (tmp_path / "raw.dat").write_bytes(b"001F\n")
    with pytest.raises(FileError, match=r"raw.layout.csv does not exist"):
        _ = open_source(str(tmp_path / "raw.dat"), ReadSettings()).names
    read(tmp_path, "001F\n")
    (tmp_path / "raw.dat").write_bytes(b"00\xd8M\n")
    with pytest.raises(FileError, match="bytes that are not utf-8"):
        open_source(str(tmp_path / "raw.dat"), ReadSettings(encoding="utf-8")).read()
    assert rows(open_source(str(tmp_path / "raw.dat"), ReadSettings(encoding="cp1252")).read().table)[0][0] == "00Ø"


CELLS = st.tuples(
    st.one_of(st.none(), st.integers(-999, 99999)),
    st.one_of(st.none(), st.text("aé- 7", min_size=1, max_size=12).map(str.strip)),
    st.one_of(st.none(), st.dates(datetime.date(1900, 1, 1))), st.one_of(st.none(), st.sampled_from([0.5, -2.25])),
)  # fmt: skip


@given(st.lists(CELLS, min_size=1, max_size=12), st.sampled_from([0, 24]))
def test_what_was_exported_comes_back(cells: list[tuple[object, ...]], line_max: int) -> None:
    x, text, day, y = (list(column) for column in zip(*cells, strict=True))
    letters = [f"z{value}" if value else None for value in text]
    columns = {
        "x": Column.of_cells("integer", x), "text": Column.of_cells("string", letters),
        "day": Column.of_cells("date", day), "y": Column.of_cells("number", y),
    }  # fmt: skip
    made = Table({name: column for name, column in columns.items() if not column.is_without_values})
    if not made.names:
        return
    with tempfile.TemporaryDirectory() as folder:
        lomrix.export(made, f"{folder}/m.dat", form="fixed", line_max=line_max)
        again = lomrix.read(f"{folder}/m.dat")
        assert rows(again) == rows(made)
