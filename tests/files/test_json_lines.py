"""JSON Lines: what the quick reader would get wrong in silence."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest

from lomrix.core.errors import FileError
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from tests.tables import lomrix

KEPT: list[tuple[str, list[Any]]] = [
    ('{"x":9007199254740993}\n{"x":1}\n', [9007199254740993, 1]),
    ('{"x":99999999999999999999}\n{"x":5}\n', ["99999999999999999999", "5"]),
    ('{"x":9007199254740993}\n{"x":0.5}\n', ["9007199254740993", "0.5"]),
    ('{"x":true}\n{"x":9007199254740993}\n', ["true", "9007199254740993"]),
    ('{"x":"x"}\n{"x":null}\n\n{"y":1}\n', ["x", None, None]),
    ('{"x":"2024-01-01T10:00:00"}\n', [datetime.datetime(2024, 1, 1, 10)]),
]


@pytest.mark.parametrize(("text", "cells"), KEPT)
def test_values_keep_every_digit(tmp_path: Path, text: str, cells: list[Any]) -> None:
    (tmp_path / "a.jsonl").write_text(text)
    assert open_source(str(tmp_path / "a.jsonl"), ReadSettings()).read().table["x"].cells() == cells


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('{"x":1}\nnull\n', "Line 2 of a.jsonl is not an object"),
        ('{"x":1}\n[1]\n', "Line 2 of a.jsonl is not an object"),
        ('{"x":1}\n{"x":1,"x":2}\n', "Line 2 of a.jsonl is not valid JSON"),
        ('{"x":1,"y":2}\n{"y":1,"y":null}\n', "Line 2 of a.jsonl is not valid JSON"),
        ('{"x":NaN}\n', "Line 1 of a.jsonl is not valid JSON"),
        ('{"x":1\n', "Line 1 of a.jsonl is not valid JSON"),
        ("", "empty"),
    ],
)
def test_lines_that_cannot_be_understood_are_named(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "a.jsonl").write_text(text)
    with pytest.raises(FileError, match=words):
        open_source(str(tmp_path / "a.jsonl"), ReadSettings()).read()


def test_timestamps_with_an_offset_are_reported(tmp_path: Path) -> None:
    (tmp_path / "a.jsonl").write_text('{"x":"2024-01-01T10:00:00+02:00"}\n{"x":"2024-01-01T10:00:00Z"}\n')
    found = open_source(str(tmp_path / "a.jsonl"), ReadSettings()).read()
    assert found.table["x"].cells() == [datetime.datetime(2024, 1, 1, 8), datetime.datetime(2024, 1, 1, 10)]
    assert [note.kind for note in found.notes] == ["offset"]


def test_a_file_without_rows_comes_back(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,2\n")
    lomrix("subset", "a.csv", "--where", "id > 5", "--out", "a.jsonl", cwd=tmp_path)
    out, _ = lomrix("subset", "a.jsonl", "--out", "-", "--quiet", cwd=tmp_path)
    assert out == "id,x\n"


def test_what_json_does_not_hold_is_kept_or_reported(tmp_path: Path) -> None:
    lines = ['{"d": "2024-01-05", "x": -0.0, "z": 31.0}', '{"d": "2024-02-05", "x": 0.0, "z": 2.0}']
    (tmp_path / "a.jsonl").write_text("\n".join(lines))
    lomrix("subset", "a.jsonl", "--type", "d=string", "--out", "b.jsonl", cwd=tmp_path)
    assert (tmp_path / "b.jsonl").read_text().splitlines() == lines
    again = open_source(str(tmp_path / "b.jsonl"), ReadSettings()).read().table
    assert again.types() == {"d": "string", "x": "number", "z": "number"}
    assert np.signbit(again["x"].values).tolist() == [True, False]
    output, _ = lomrix("subset", "b.jsonl", "--out", "b.xlsx", cwd=tmp_path)
    assert "it is written as 0" in output
    (tmp_path / "c.jsonl").write_text('{"x": 1e400}\n{"x": 1.5}\n')
    read = open_source(str(tmp_path / "c.jsonl"), ReadSettings()).read()
    assert read.table["x"].cells() == ["1e400", "1.5"] and [note.kind for note in read.notes] == ["stray-text"]


@pytest.mark.parametrize(
    ("form", "first", "second"),
    [("local", "2024-03-31 00:30:00", "2024-03-31 03:15:00"), ("utc", "2024-03-30 23:30:00", "2024-03-31 01:15:00")],
)
@pytest.mark.parametrize("name", ["a.jsonl", "a.parquet", "a.csv"])
def test_times_with_an_offset_as_the_clock_showed_them_or_in_utc(
    name: str, form: str, first: str, second: str, tmp_path: Path
) -> None:
    texts = ["2024-03-31T00:30:00+01:00", "2024-03-31T03:15:00+02:00"]  # summer time begins between them
    (tmp_path / "a.jsonl").write_text("".join(f'{{"t":"{text}"}}\n' for text in texts))
    (tmp_path / "a.csv").write_text("\n".join(["t", *texts]) + "\n")
    instants = pa.array([datetime.datetime.fromisoformat(text) for text in texts], pa.timestamp("us", "Europe/Oslo"))
    pa.parquet.write_table(pa.table({"t": instants}), tmp_path / "a.parquet")
    shown = lomrix("profile", name, "--type", f"t=datetime:{form}", cwd=tmp_path)[0]
    assert f"{first} to {second}" in shown
