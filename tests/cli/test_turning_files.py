"""to-long and to-wide as they are typed, on the demo study."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from tests.tables import lomrix

CASE = ["--case", "crew_id"]
HEADER = ["--header", "{measure}_m{month}"]


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("study")
    lomrix("demo", "demo", cwd=folder)
    demo = folder / "demo"
    output = ["--ledger", "ledger_sleep_wide.csv", "-d", "dictionary.toml", "-q"]
    lomrix("correct", "sleep_wide.csv", *output, "--out", "sleep.csv", cwd=demo)
    return demo


@pytest.mark.parametrize("suffix", [".csv", ".parquet", ".arrow", ".jsonl", ".xlsx"])
def test_the_sleep_file_comes_back_byte_for_byte(study: Path, tmp_path: Path, suffix: str) -> None:
    long, wide = tmp_path / f"long{suffix}", tmp_path / f"wide{suffix}"
    lomrix("to-long", "sleep.csv", *CASE, *HEADER, "--keep-empty", "--out", long, cwd=study)
    out, _ = lomrix("to-wide", long, "--json", "--out", wide, cwd=study)
    assert json.loads(out)["account"]["facts"]["cannot_come_back"] == []
    lomrix("subset", wide, "--out", tmp_path / "again.csv", cwd=study)
    assert (tmp_path / "again.csv").read_bytes() == (study / "sleep.csv").read_bytes()
    fields = [
        json.loads((folder / name).read_text())["schema"]["fields"]
        for folder, name in ((study, "sleep.csv.resource.json"), (tmp_path, "again.csv.resource.json"))
    ]
    titles = [[(field["name"], field["type"], field.get("title")) for field in one] for one in fields]
    assert titles[0] == titles[1]
    assert titles[0][2] == ("sleep_m3", "integer", "Sleep in 24 hours, month 3")


def test_fatigue_waves_go_wide_and_come_back(study: Path, tmp_path: Path) -> None:
    waves = ["fatigue_m0.csv", "fatigue_m6.csv", "--mark", "month=fatigue_m{month}", "-d", "dictionary.toml"]
    long, wide, again = tmp_path / "long.csv", tmp_path / "wide.csv", tmp_path / "again.csv"
    lomrix("stack", *waves, "--case", "crew_id", "--out", "stacked.csv", cwd=study)
    lomrix("subset", "stacked.csv", "--without", "sex,age", "--out", long, cwd=study)
    lomrix("to-wide", long, *CASE, "--occasion", "month", *HEADER, "--out", wide, cwd=study)
    lomrix("to-long", wide, "--keep-empty", "--out", again, cwd=study)
    before, after = (list(csv.reader(path.open())) for path in (long, again))
    assert before[0] == after[0]
    assert sorted(before) == sorted(after)
    fields = json.loads((tmp_path / "wide.csv.resource.json").read_text())["schema"]["fields"]
    assert {field["name"]: field.get("title") for field in fields}["watch_m6"] == (
        "Watch that the crew member stands, month 6"
    )


def test_variables_in_rows_become_columns_in_two_commands(study: Path, tmp_path: Path) -> None:
    long, wide = tmp_path / "long.csv", tmp_path / "ports.csv"
    years = ["--header", "Y{year}", "--value-name", "value", "--keep-empty"]
    lomrix("to-long", "port_series.csv", "--case", "port,series", *years, "--out", long, cwd=study)
    turn = ["--case", "port,year", "--occasion", "series", "--header", "{series}", "--label-from", "series_name"]
    lomrix("to-wide", long, *turn, "--out", wide, cwd=study)
    lines = wide.read_text().splitlines()
    assert lines[:2] == ["port,year,port_name,PAX,CARS,STORM,DELAY", "AUK,2009,Auk Bay,281.4,79.4,9,108"]
    assert len(lines) == 1 + 5 * 16
    assert "GUL,2015,Gullhaven,326,,22,223" in lines
    fields = json.loads((tmp_path / "ports.csv.resource.json").read_text())["schema"]["fields"]
    assert [field.get("title") for field in fields][3:] == [
        "Passengers, thousands", "Cars, thousands", "Days closed for storm", "Sailings late by an hour or more",
    ]  # fmt: skip


def test_without_a_header_the_command_is_proposed_and_can_be_guessed(study: Path, tmp_path: Path) -> None:
    _, output = lomrix("to-long", "sleep.csv", "--out", tmp_path / "long.csv", cwd=study, status=2)
    command = 'lomrix to-long sleep.csv --case crew_id --header "{measure}_m{month}"'
    assert command in output
    assert not (tmp_path / "long.csv").exists()
    out, _ = lomrix("to-long", "sleep.csv", "--guess", cwd=study)
    assert 'guessed: --case crew_id --header "{measure}_m{month}"' in out


@pytest.mark.parametrize("suffix", [".png", ".svg", ".pdf"])
def test_courses_are_drawn_the_same_every_time(study: Path, tmp_path: Path, suffix: str) -> None:
    drawn = [tmp_path / f"one{suffix}", tmp_path / f"two{suffix}"]
    for path in drawn:
        lomrix("to-long", "sleep.csv", *CASE, *HEADER, "--figure", path, cwd=study)
    assert drawn[0].stat().st_size > 10_000
    assert drawn[0].read_bytes() == drawn[1].read_bytes()


@pytest.mark.parametrize(
    ("words", "status", "expected"),
    [
        (["to-long", "sleep.csv", *CASE, *HEADER, "--figure", "x.gif"], 2, "cannot be written to x.gif"),
        (["to-long", "sleep.csv", *CASE, *HEADER, "--figure", "sleep.csv"], 2, "is an input"),
        (
            ["to-wide", "sleep.csv", *CASE, "--occasion", "nothing", "--header", "{measure}_{nothing}"],
            2,
            "No column nothing",
        ),
        (
            ["to-wide", "fatigue_m0.csv", "--case", "watch", "--occasion", "sex", "--header", "{measure}{sex}"],
            1,
            "row",
        ),
        (["to-wide", "sleep.csv", "--case", "nobody", "--occasion", "x", *HEADER], 2, "No column nobody"),
    ],
)
def test_turns_that_are_refused(study: Path, words: list[str], status: int, expected: str) -> None:
    _, error = lomrix(*words, cwd=study, status=status)
    assert expected in error
    assert "next" in error


def test_measures_of_words_are_turned_though_there_is_nothing_to_draw(tmp_path: Path) -> None:
    (tmp_path / "mood.csv").write_text("id,mood_m0,mood_m3\na,low,high\n")
    turn = ["mood.csv", "--case", "id", *HEADER, "--figure", "mood.png", "--out", "long.csv"]
    out, _ = lomrix("to-long", *turn, cwd=tmp_path)
    assert "not drawn" in out
    assert (tmp_path / "long.csv").read_text() == "id,month,mood\na,0,low\na,3,high\n"
    assert not (tmp_path / "mood.png").exists()


def test_numbers_that_come_back_in_another_form_are_reported(tmp_path: Path) -> None:
    (tmp_path / "w.csv").write_text("id,s0,s3\n1,31.0,32.5\n2,+3,1e3\n")
    output, _ = lomrix(
        "to-long", "w.csv", "--case", "id", "--header", "{measure}{month}", "--out", "l.csv", cwd=tmp_path
    )
    form = "numbers are written in their shortest form, so that 31.0 comes back as 31."
    assert f'w.s0: {form} (row 2 "31.0", row 3 "+3")' in output
    assert f'w.s3: {form} (row 3 "1e3")' in output
    assert "shortest" not in lomrix("to-wide", "l.csv", "--out", "b.csv", cwd=tmp_path)[0]
    assert "shortest" not in lomrix("profile", "w.csv", cwd=tmp_path)[0]
