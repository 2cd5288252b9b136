"""What an export writes for missing cells, and that Lomrix itself knows it again."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.tables import lomrix


@pytest.mark.parametrize("form", ["csv", "tsv"])
def test_codes_of_an_export_are_missing_when_it_is_read_again(tmp_path: Path, form: str) -> None:
    (tmp_path / "a.csv").write_text("id,x,d,s\n1,5,2024-01-01,a\n2,,,\n3,7,2024-01-02,b\n")
    output, _ = lomrix("export", "a.csv", "--to", f"b.{form}", "--form", "headed", "--missing-code", "-9", cwd=tmp_path)
    assert " ".join(output.split()).count("blank 2 -9 blank 1 an empty cell") == 1
    out, _ = lomrix("subset", f"b.{form}", "--where", "is_missing(x)", "--out", "-", "--quiet", cwd=tmp_path)
    assert out.splitlines()[1].startswith("2,")
    means, _ = lomrix("aggregate", f"b.{form}", "--by", "d", "--stat", "x: n", "--out", "-", "--quiet", cwd=tmp_path)
    assert "-9" not in means
    if form == "csv":
        assert (tmp_path / "b.csv").read_text().splitlines()[2] == "2,-9,,-9"


def test_a_text_column_with_nothing_in_it_and_ids_of_one_width(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,s\n007,\n012,\n")
    output, _ = lomrix("export", "a.csv", "--to", "b.dat", "--form", "bare", "--type", "s=string", cwd=tmp_path)
    assert "no text in it: every cell is missing" in output
    assert "the texts had 3 digits" in (tmp_path / "b.columns.txt").read_text()


def test_per_cents_of_a_cross_count_are_written_and_reported_as_numbers(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("s,v\n1,x\n1,x\n1,y\n2,y\n")
    output, _ = lomrix("tally", "a.csv", "s", "v", "--percent", "row", "--json", "--out", "b.csv", cwd=tmp_path)
    lines = (tmp_path / "b.csv").read_text().splitlines()
    assert lines[0] == "s,v,cells,percent" and lines[3:] == ["2,x,0,0", "2,y,1,100"]
    counts = json.loads(output)["account"]["facts"]["counts"]
    assert counts[3] == {"s": 2, "v": "y", "cells": 1, "percent": 100.0}


def test_names_with_blanks_are_reported_apart_in_the_companion(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,heart rate,steps\n1,60,70\n")
    lomrix("export", "a.csv", "--to", "b.dat", "--form", "bare", cwd=tmp_path)
    assert '\nid "heart rate" steps\n' in (tmp_path / "b.columns.txt").read_text()


def test_a_reason_that_no_code_was_stated_for_gets_one_of_its_own_and_is_reported(tmp_path: Path) -> None:
    codes = '{ "-9" = "refused", "-8" = "unsure" }'
    (tmp_path / "d.toml").write_text(f"[variables.x]\nmissing = {codes}\n[variables.y]\nmissing = {codes}\n")
    (tmp_path / "a.csv").write_text("x,y\n-9,-8\n-8,4\n5,4\n")
    words = ["export", "a.csv", "-d", "d.toml", "--form", "bare", "--missing-code", "refused=-9"]
    output, _ = lomrix(*words, "--to", "b.dat", cwd=tmp_path)
    assert (tmp_path / "b.dat").read_text() == "-9 -99\n-99 4\n5 4\n"
    assert "no missing code was given for unsure: 2 cells are written as -99." in output
    output, _ = lomrix(*words, "--missing-code", "-7", "--to", "c.dat", cwd=tmp_path)
    assert "no missing code was said" not in output


def test_a_code_of_a_reason_that_a_column_does_not_have_may_be_its_value(tmp_path: Path) -> None:
    (tmp_path / "d.toml").write_text('[variables.x]\nmissing = { "n/r" = "refused" }\n')
    (tmp_path / "a.csv").write_text("x,celsius\nn/r,-9\n5,3\n")
    words = ["export", "a.csv", "-d", "d.toml", "--form", "headed", "--missing-code", "refused=-9", "--to", "b.csv"]
    lomrix(*words, cwd=tmp_path)
    assert (tmp_path / "b.csv").read_text() == "x,celsius\n-9,-9\n5,3\n"


def test_dates_whose_form_is_stated_are_not_called_unclear(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("d\n03/04/2024\nxx\n")
    output, _ = lomrix("check", "a.csv", "--type", "d=date:%d/%m/%Y", cwd=tmp_path, status=1)
    assert "text-in-dates" in output and "unclear-date" not in output
