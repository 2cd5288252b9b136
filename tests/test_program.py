"""The installed program, run on files in a temporary folder."""

from __future__ import annotations

import json
import resource
from pathlib import Path

import pytest

from tests.tables import lomrix

KEY = ["--key", "crew_id"]


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("study")
    lomrix("demo", "demo", cwd=folder)
    return folder / "demo"


@pytest.fixture
def crew(tmp_path: Path) -> Path:
    (tmp_path / "roster.csv").write_text("crew_id,vessel\n0001,tern\n0002,gull\n0003,tern\n")
    (tmp_path / "sleep.csv").write_text("crew_id,sleep_m0,sleep_m3\n0001,400,-9\n0003,,\n0009,390,410\n")
    (tmp_path / "d.toml").write_text(
        '[variables."sleep_m{month}"]\nlabel = "Sleep, month {month}"\nmissing = {"-9" = "refused"}\n'
    )
    return tmp_path


def test_the_whole_job(crew: Path) -> None:
    lomrix("merge", "roster.csv", "sleep.csv", *KEY, "-d", "d.toml", "--out", "both.csv", cwd=crew)
    assert (crew / "both.csv").read_text().splitlines() == [
        "crew_id,vessel,sleep_m0,sleep_m3",
        "0001,tern,400,-9",
        "0002,gull,unmatched,unmatched",
        "0003,tern,,",
        "0009,unmatched,390,410",
    ]
    out, _ = lomrix(
        "to-long",
        "both.csv",
        "--case",
        "crew_id",
        "--header",
        "{measure}_m{month}",
        "--json",
        "--keep-empty",
        "--out",
        "long.parquet",
        cwd=crew,
    )
    account = json.loads(out)["account"]
    assert account["listings"][0]["rows"][0]["formed from"] == "sleep_m0 sleep_m3"
    lomrix(
        "aggregate", "long.parquet", "--by", "vessel,month", "--stat", "sleep: n mean sd", "--out", "by.csv", cwd=crew
    )
    assert (crew / "by.csv").read_text().splitlines() == [
        "vessel,month,sleep_n,sleep_mean,sleep_sd",
        "gull,0,0,undefined,undefined",
        "gull,3,0,undefined,undefined",
        "tern,0,1,400,undefined",
        "tern,3,0,undefined,undefined",
    ]
    lomrix("export", "long.parquet", "--to", "model.dat", "--form", "bare", "--missing-code", "-9", cwd=crew)
    lines = (crew / "model.dat").read_text().splitlines()
    assert lines[:2] == ["1 0 2 400", "1 3 2 -9"]
    assert "crew_id month vessel sleep" in (crew / "model.columns.txt").read_text()
    field = json.loads((crew / "by.resource.json").read_text())["schema"]["fields"][3]
    assert field["title"] == "mean of Sleep"


def test_a_rehearsal_writes_nothing(crew: Path) -> None:
    before = sorted(crew.iterdir())
    out, _ = lomrix("merge", "roster.csv", "sleep.csv", *KEY, cwd=crew)
    assert "nothing was written" in out
    assert "3  = 2 with a partner + 1 without a partner" in out
    assert sorted(crew.iterdir()) == before


def test_history_names_inputs_and_commands(crew: Path) -> None:
    lomrix("merge", "roster.csv", "sleep.csv", *KEY, "--out", "a.csv", cwd=crew)
    lomrix("to-long", "a.csv", "--case", "crew_id", "--header", "{measure}_m{month}", "--out", "b.csv", cwd=crew)
    history = json.loads((crew / "b.resource.json").read_text())["lomrix:history"]
    assert [entry["command"].split()[1] for entry in history] == ["merge", "to-long"]
    assert [one["path"] for one in history[0]["inputs"]] == ["roster.csv", "sleep.csv"]
    assert history[0]["inputs"][0]["hash"].startswith("blake2b-256:")


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (["merge", "roster.csv", "nowhere.csv", *KEY], 3, "There is no file nowhere.csv"),
        (["merge", "roster.csv", "slep.csv", *KEY], 3, "Did you mean sleep.csv"),
        (["merge", "roster.csv", "sleep.csv", "--key", "crew"], 2, "Did you mean crew_id?"),
        (["merge", "roster.csv", ".", *KEY], 3, "is a directory"),
        (["merge", "roster.csv", "d.toml", *KEY], 2, "no extension that Lomrix can read"),
        (
            ["merge", "roster.csv", "sleep.csv", *KEY, "--out", "roster.csv", "--overwrite"],
            2,
            "inputs are never changed",
        ),
        (["merge", "roster.csv", "sleep.csv", *KEY, "--out", "."], 3, "is a directory"),
        (["merge", "roster.csv", "sleep.csv", *KEY, "--out", "no/x.csv"], 3, "mkdir -p no"),
        (["merge", "roster.csv", "sleep.csv", *KEY, "--out", "x.doc"], 2, "no extension that Lomrix can write"),
        (
            ["merge", "roster.csv", "sleep.csv", *KEY, "-d", "roster.csv"],
            3,
            "dictionary roster.csv cannot be understood",
        ),
        (["to-long", "sleep.csv", "--header", "{measure}_w{week}"], 2, "No column fits"),
        (["aggregate", "sleep.csv", "--by", "crew_id", "--stat", "sleep_m0"], 2, "does not say which statistics"),
        (["export", "sleep.csv", "--missing-code", "400"], 1, "it is a value of sleep_m0"),
        (["export", "sleep.csv", "--to", "x.dat"], 2, "cannot be written to x.dat"),
        (["merge", "roster.csv"], 2, ""),
    ],
)
def test_errors_and_exit_statuses(crew: Path, words: list[str], status: int, told: str) -> None:
    before = {path: path.read_bytes() for path in crew.iterdir()}
    _, err = lomrix(*words, cwd=crew, status=status)
    assert told in err
    assert {path: path.read_bytes() for path in crew.iterdir()} == before


def test_an_output_is_replaced_only_when_told(crew: Path) -> None:
    words = ["merge", "roster.csv", "sleep.csv", *KEY, "--out", "a.csv"]
    lomrix(*words, cwd=crew)
    first = (crew / "a.csv").read_bytes()
    _, err = lomrix(*words, cwd=crew, status=3)
    assert "--overwrite" in err
    lomrix(*words, "--overwrite", cwd=crew)
    assert (crew / "a.csv").read_bytes() == first


def test_a_full_disk_leaves_nothing_behind(crew: Path) -> None:
    rows = "".join(f"{at:05d},{at}\n" for at in range(20_000))
    (crew / "big.csv").write_text("crew_id,x\n" + rows)
    import subprocess
    import sys

    program = Path(sys.executable).parent / "lomrix"
    done = subprocess.run(
        [str(program), "merge", "big.csv", "sleep.csv", *KEY, "--out", "out.csv"],
        cwd=crew,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, 50_000)),
    )
    assert done.returncode == 3
    assert "out.csv cannot be written" in done.stderr
    assert sorted(path.name for path in crew.iterdir()) == ["big.csv", "d.toml", "roster.csv", "sleep.csv"]


def test_quiet_json_and_streams(crew: Path) -> None:
    assert lomrix("merge", "roster.csv", "sleep.csv", *KEY, "--quiet", "--out", "q.csv", cwd=crew) == ("", "")
    out, err = lomrix("merge", "roster.csv", "sleep.csv", *KEY, "--out", "-", cwd=crew)
    assert out.startswith("crew_id,vessel,sleep_m0,sleep_m3\n0001,tern,400,-9\n")
    assert "merge" in err
    out, _ = lomrix("merge", "roster.csv", "sleep.csv", "--key", "nix", "--json", cwd=crew, status=2)
    assert json.loads(out)["error"]["what"] == "There is no column nix in roster."


def test_help_names_the_panels_and_loads_no_arrays(crew: Path) -> None:
    out, _ = lomrix("--help", cwd=crew)
    for word in ("Combine:", "Reshape:", "Compute:", "Deliver:", "rehearsal"):
        assert word in out
    for command in ("merge", "to-long", "aggregate", "export", "demo"):
        assert "Example: lomrix" in lomrix(command, "--help", cwd=crew)[0]
    import subprocess
    import sys

    code = "import sys, lomrix.cli.main; sys.exit(bool({'numpy', 'pyarrow', 'pydantic'} & set(sys.modules)))"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_colour_only_where_it_is_wanted(crew: Path) -> None:
    for env in ({}, {"NO_COLOR": "1", "FORCE_COLOR": ""}):
        out, _ = lomrix("merge", "roster.csv", "sleep.csv", *KEY, cwd=crew, env=env)
        assert "\x1b[" not in out


def test_the_demo_is_the_same_every_time_and_its_flaws_are_where_it_says(study: Path, tmp_path: Path) -> None:
    lomrix("demo", tmp_path / "again", cwd=tmp_path)
    for path in sorted(study.iterdir()):
        assert path.read_bytes() == (tmp_path / "again" / path.name).read_bytes(), path.name
    listed = [line.split(" | ") for line in (study / "flaws.md").read_text().splitlines() if line.startswith("| ")][1:]
    assert {row[0].strip("| ") for row in listed} >= {"repeated id", "lost zeros", "trailing blank", "missing id"}
    for _, file, row, column, cell, _ in (entry for entry in listed if entry[1].endswith(".csv")):
        lines = (study / file).read_text().splitlines()
        assert lines[int(row) - 1].split(",")[lines[0].split(",").index(column)] == cell.strip('"')
    _, err = lomrix("demo", tmp_path / "again", cwd=tmp_path, status=3)
    assert "--overwrite" in err


def test_the_demo_job_finds_what_was_planted(study: Path) -> None:
    _, err = lomrix("merge", "roster.csv", "sleep_wide.csv", *KEY, "--expect", "one-to-one", cwd=study, status=1)
    assert "1 key repeats in roster" in err
    _, err = lomrix("merge", "roster.csv", "fatigue_m0.csv", *KEY, cwd=study, status=1)
    assert "sex: 3 cells differ" in err
