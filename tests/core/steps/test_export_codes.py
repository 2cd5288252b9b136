"""What an export writes for missing cells, and that Lomrix itself knows it again."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.tables import lomrix


@pytest.mark.parametrize("form", ["csv", "tsv"])
def test_codes_of_an_export_are_missing_when_it_is_read_again(tmp_path: Path, form: str) -> None:
    (tmp_path / "a.csv").write_text("id,x,d,s\n1,5,2024-01-01,a\n2,,,\n3,7,2024-01-02,b\n")
    told, _ = lomrix("export", "a.csv", "--to", f"b.{form}", "--form", "headed", "--missing-code", "-9", cwd=tmp_path)
    assert " ".join(told.split()).count("blank 2 -9 blank 1 an empty cell") == 1
    out, _ = lomrix("subset", f"b.{form}", "--where", "is_missing(x)", "--out", "-", "--quiet", cwd=tmp_path)
    assert out.splitlines()[1].startswith("2,")
    means, _ = lomrix("aggregate", f"b.{form}", "--by", "d", "--stat", "x: n", "--out", "-", "--quiet", cwd=tmp_path)
    assert "-9" not in means
    if form == "csv":
        assert (tmp_path / "b.csv").read_text().splitlines()[2] == "2,-9,,-9"


def test_a_text_column_with_nothing_in_it_and_ids_of_one_width(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,s\n007,\n012,\n")
    told, _ = lomrix("export", "a.csv", "--to", "b.dat", "--form", "bare", "--type", "s=string", cwd=tmp_path)
    assert "no text in it: every cell is missing" in told
    assert "the texts had 3 digits" in (tmp_path / "b.columns.txt").read_text()


def test_per_cents_of_a_cross_count_are_written_and_told_as_numbers(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("s,v\n1,x\n1,x\n1,y\n2,y\n")
    told, _ = lomrix("tally", "a.csv", "s", "v", "--percent", "row", "--json", "--out", "b.csv", cwd=tmp_path)
    lines = (tmp_path / "b.csv").read_text().splitlines()
    assert lines[0] == "s,v,cells,percent" and lines[3:] == ["2,x,0,0", "2,y,1,100"]
    counts = json.loads(told)["account"]["facts"]["counts"]
    assert counts[3] == {"s": 2, "v": "y", "cells": 1, "percent": 100.0}


def test_names_with_blanks_are_told_apart_in_the_companion(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,heart rate,steps\n1,60,70\n")
    lomrix("export", "a.csv", "--to", "b.dat", "--form", "bare", cwd=tmp_path)
    assert '\nid "heart rate" steps\n' in (tmp_path / "b.columns.txt").read_text()
