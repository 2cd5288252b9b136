"""Sources: names and dictionary before reading, chosen columns, a range of rows, a fingerprint."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

import pyarrow.csv as pacsv
import pytest

from lomrix.core.errors import FileError
from lomrix.files import delimited
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_sink, open_source
from tests.tables import lomrix, rows, table

SUFFIXES = [".csv", ".tsv", ".parquet", ".arrow", ".jsonl", ".xlsx"]


@pytest.fixture(params=SUFFIXES)
def path(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    made = table("t", id=["a", "b", "c", "d"], x=[1, 2, 3, 4], y=[0.5, 1.5, None, 2.5])
    place = tmp_path / f"t{request.param}"
    sink = open_sink(str(place))
    sink.stage(made)
    sink.commit()
    return place


def test_names_come_first_then_some_columns_and_rows(path: Path) -> None:
    source = open_source(str(path), ReadSettings())
    assert source.names == ("id", "x", "y")
    found = source.read(["y", "id"], range(1, 3)).table
    assert rows(found) == [("b", 1.5), ("c", None)]
    assert found.source_names == ["id", "x", "y"]
    assert rows(source.read(rows=range(3, 99)).table) == [("d", 4, 2.5)]
    assert len(source.read(rows=range(7, 9)).table) == 0


def test_the_fingerprint_is_what_b2sum_reports(path: Path) -> None:
    output = subprocess.run(["b2sum", "-l", "256", path], capture_output=True, text=True, check=True).stdout.split()[0]
    assert open_source(str(path), ReadSettings()).compute_fingerprint() == f"blake2b-256:{output}"


def test_a_range_of_rows_crosses_blocks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "long.csv").write_text("n,m\n" + "".join(f"{at},{-at}\n" for at in range(5000)))
    plain = pacsv.ReadOptions

    def small(**settings: Any) -> Any:
        return plain(**{**settings, "block_size": 600})

    monkeypatch.setattr(pacsv, "ReadOptions", small)
    source = open_source(str(tmp_path / "long.csv"), ReadSettings())
    assert source.read(["m"], range(95, 305)).table["m"].cells() == [-at for at in range(95, 305)]


def test_a_choice_of_columns_reads_the_file_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    names = [f"c{at}" for at in range(300)]
    (tmp_path / "big.csv").write_text(",".join(["id", *names]) + "\n" + ",".join(["a"] + ["1"] * 300) + "\n")
    read: list[list[str]] = []
    cells = delimited.read_text

    def counted(path: Path, layout: Any, needed: Any, rows: Any = None, body: Any = None) -> Any:
        read.append(list(needed))
        return cells(path, layout, needed, rows, body)

    monkeypatch.setattr(delimited, "read_text", counted)
    out, _ = lomrix("subset", "big.csv", "--columns", "id,c7", "--out", "o.csv", cwd=tmp_path)
    # Beside the two, only the first few that are left out are looked at, whether they tell rows apart.
    assert read == [["id", *names[:8], *names[8:13]]] or (len(read) == 1 and len(read[0]) <= 15)
    assert "301 columns" in out
    assert (tmp_path / "o.csv").read_text() == "id,c7\na,1\n"


def test_types_may_be_given_to_columns_that_are_not_read(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,2\n")
    lomrix("subset", "a.csv", "--columns", "id", "--type", "x=string", cwd=tmp_path)
    _, error = lomrix("subset", "a.csv", "--type", "z=string", cwd=tmp_path, status=2)
    assert "No column z" in error


@pytest.mark.parametrize("suffix", [".parquet", ".arrow", ".xlsx"])
def test_files_that_are_cut_are_reported(tmp_path: Path, suffix: str) -> None:
    (tmp_path / f"cut{suffix}").write_bytes(b"PAR1 this is not the whole file")
    with pytest.raises(FileError):
        open_source(str(tmp_path / f"cut{suffix}"), ReadSettings()).read()


def test_a_pipe_by_name_is_refused_instead_of_waited_for(tmp_path: Path) -> None:
    import os

    os.mkfifo(tmp_path / "pipe.csv")
    _, error = lomrix("subset", "pipe.csv", cwd=tmp_path, status=3)
    assert "not a regular file" in error
