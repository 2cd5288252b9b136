"""The installed program, run on files in a temporary folder."""

from __future__ import annotations

import csv
import json
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from lomrix.core.steps.registry import ENTRIES
from tests.tables import installed, lomrix

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
        "0002,gull,,",
        "0003,tern,,",
        "0009,,390,410",
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
        "gull,0,0,,",
        "gull,3,0,,",
        "tern,0,1,400,",
        "tern,3,0,,",
    ]
    lomrix("export", "long.parquet", "--to", "model.dat", "--form", "bare", "--missing-code", "-9", cwd=crew)
    lines = (crew / "model.dat").read_text().splitlines()
    assert lines[:2] == ["1 0 2 400", "1 3 2 -9"]
    assert "crew_id month vessel sleep" in (crew / "model.columns.txt").read_text()
    field = json.loads((crew / "by.csv.resource.json").read_text())["schema"]["fields"][3]
    assert field["title"] == "mean of Sleep"


def test_a_rehearsal_writes_nothing(crew: Path) -> None:
    before = sorted(crew.iterdir())
    out, _ = lomrix("merge", "roster.csv", "sleep.csv", *KEY, cwd=crew)
    assert "Nothing was written" in out
    assert "3  = 2 with a partner + 1 without a partner" in out
    assert sorted(crew.iterdir()) == before


def test_history_names_inputs_and_commands(crew: Path) -> None:
    lomrix("merge", "roster.csv", "sleep.csv", *KEY, "--out", "a.csv", cwd=crew)
    lomrix("to-long", "a.csv", "--case", "crew_id", "--header", "{measure}_m{month}", "--out", "b.csv", cwd=crew)
    history = json.loads((crew / "b.csv.resource.json").read_text())["lomrix:history"]
    merge, turn = history["tasks"].values()
    assert (merge["do"], merge["settings"]) == ("merge", {"key": ["crew_id"]})
    assert [(one["role"], one["path"], one["rows"]) for one in merge["inputs"]] == [
        ("base", "roster.csv", 3), ("added", "sleep.csv", 3),
    ]  # fmt: skip
    digest = subprocess.run(["b2sum", "-l", "256", crew / "sleep.csv"], capture_output=True, text=True, check=True)
    assert merge["inputs"][1]["hash"] == f"blake2b-256:{digest.stdout.split()[0]}"
    assert (turn["inputs"][0]["task"], history["last"]) == tuple(history["tasks"])


@pytest.mark.parametrize(
    ("words", "status", "expected"),
    [
        (["merge", "roster.csv", "nowhere.csv", *KEY], 3, "The file nowhere.csv does not exist"),
        (["merge", "roster.csv", "slep.csv", *KEY], 3, "Did you mean sleep.csv"),
        (["merge", "roster.csv", "sleep.csv", "--key", "crew"], 2, "Did you mean crew_id?"),
        (["merge", "roster.csv", ".", *KEY], 3, "has other columns than"),
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
            "roster.csv is not a dictionary",
        ),
        (["to-long", "sleep.csv", "--header", "{measure}_w{week}"], 2, "No column fits"),
        (["aggregate", "sleep.csv", "--by", "crew_id", "--stat", "sleep_m0"], 2, "does not state statistics"),
        (["export", "sleep.csv", "--missing-code", "400"], 1, "it is a value of sleep_m0"),
        (["export", "sleep.csv", "--to", "x.dat", "--form", "headed"], 2, "cannot be written to x.dat"),
        (["export", "sleep.csv", "--to", "x.dat"], 2, "Use --form bare"),
        (["merge", "roster.csv"], 2, "ADDED… is missing.\nnext   ADDED…: Files whose variables"),
        (["profile", "a.csv", "b.csv", "c"], 2, "profile has no place for b.csv, c.\nnext   It takes SOURCE, then"),
        (["join", "a.csv"], 2, "Unknown command join.\nnext   Did you mean `lomrix merge --help`?"),
        (["profle", "a.csv"], 2, "Did you mean profile?"),
        (["tally", "a.csv", "b", "--percent"], 2, "--percent needs a value.\nnext   --percent: Percentages"),
        (["tally", "a.csv", "--percnt", "row"], 2, "Unknown option --percnt.\nnext   Did you mean --percent?"),
        (["tally", "a.csv", "b", "--percent", "x"], 2, "where  'x' is not one of 'none', 'row', 'column'."),
        (["subset", "a.csv", "--skip-rows", "-1"], 2, "--skip-rows is at least 0, not -1."),
        (["subset", "a.csv", "--skip-rows", "x"], 2, '"x" is not valid for --skip-rows.\nnext   Use a whole number.'),
    ],
)
def test_errors_and_exit_statuses(crew: Path, words: list[str], status: int, expected: str) -> None:
    before = {path: path.read_bytes() for path in crew.iterdir()}
    _, err = lomrix(*words, cwd=crew, status=status)
    assert expected in err
    assert {path: path.read_bytes() for path in crew.iterdir()} == before


def test_an_output_is_replaced_only_when_reported(crew: Path) -> None:
    words = ["merge", "roster.csv", "sleep.csv", *KEY, "--out", "a.csv"]
    lomrix(*words, cwd=crew)
    first = (crew / "a.csv").read_bytes()
    _, err = lomrix(*words, cwd=crew, status=3)
    assert "--overwrite" in err
    lomrix(*words, "--overwrite", cwd=crew)
    assert (crew / "a.csv").read_bytes() == first


def test_what_was_written_beside_an_error_is_listed(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,2\n")
    (tmp_path / "b.csv").write_text("id,x\n1,3\n")
    words = ["merge", "a.csv", "b.csv", "--key", "id", "--overlap", "check", "--conflicts", "c.csv", "--out", "o.csv"]
    output, error = lomrix(*words, cwd=tmp_path, status=1)
    assert "written  c.csv  (1 row" in output + error and error.startswith("error  ")
    assert (tmp_path / "c.csv").exists() and not (tmp_path / "o.csv").exists()


def test_the_demo_says_what_it_is_and_what_to_type_next(tmp_path: Path) -> None:
    output, _ = lomrix("demo", "demo", cwd=tmp_path)
    assert output.startswith(
        "demo  the study of the Kittiwake Line, all invented\n         400 rows  demo/roster.csv\n"
    )
    assert "next  lomrix profile demo/roster.csv\n" in output


def test_an_option_without_effect_is_noted(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x,wave\n1,2,0\n")
    for words in (
        ["derive", "a.csv", "y = x", "--case", "id"],
        ["subset", "a.csv", "--where", "x > 1", "--case", "id"],
    ):
        assert "--case had no effect: no " in lomrix(*words, cwd=tmp_path)[0]
    words = ["derive", "a.csv", "y = case_mean(x)", "--case", "id", "--occasion", "wave"]
    output, _ = lomrix(*words, cwd=tmp_path)
    assert "--occasion had no effect: no expression uses other rows of a case." in output and "--case had" not in output


def test_a_full_disk_leaves_nothing_behind(crew: Path) -> None:
    rows = "".join(f"{at:05d},{at}\n" for at in range(20_000))
    (crew / "big.csv").write_text("crew_id,x\n" + rows)
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
    assert json.loads(out)["error"]["what"] == "No column nix in roster."


def test_help_names_the_panels_and_loads_no_arrays(crew: Path) -> None:
    out, _ = lomrix("--help", cwd=crew)
    for word in ("Combine:", "Reshape:", "Compute:", "Deliver:", "rehearsal"):
        assert word in out
    for command in ("merge", "to-long", "aggregate", "export", "demo"):
        assert "Example: lomrix" in lomrix(command, "--help", cwd=crew)[0]
    code = "import sys, lomrix.cli.main; sys.exit(bool({'numpy', 'pyarrow', 'pydantic'} & set(sys.modules)))"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_colour_only_where_it_is_wanted(crew: Path) -> None:
    words = ["merge", "roster.csv", "sleep.csv", *KEY]
    assert "\x1b[" not in lomrix(*words, cwd=crew)[0]
    assert "\x1b[" in lomrix(*words, cwd=crew, terminal=True, width=100)[0]
    assert "\x1b[" not in installed(*words, cwd=crew, env={"NO_COLOR": "1"})[0]


def test_the_demo_is_the_same_every_time_and_its_flaws_are_where_it_reports(study: Path, tmp_path: Path) -> None:
    lomrix("demo", tmp_path / "again", cwd=tmp_path)
    files = sorted(path.relative_to(study) for path in study.rglob("*") if path.is_file())
    assert Path("second/roster.csv") in files and Path("study_plan.toml") in files
    for path in files:
        assert (study / path).read_bytes() == (tmp_path / "again" / path).read_bytes(), path
    listed = [line.split(" | ") for line in (study / "flaws.md").read_text().splitlines() if line.startswith("| ")][1:]
    assert {row[0].strip("| ") for row in listed} >= {"repeated id", "lost zeros", "trailing space", "missing id"}
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


def findings(study: Path, file: str, *words: str, status: int) -> set[tuple[int, str]]:
    """Row and column of every cell that `check` finds."""
    out, _ = lomrix("check", file, *words, "-d", "dictionary.toml", "--json", cwd=study, status=status)
    facts = json.loads(out)["account"]["facts"]["findings"]
    return {(row, one["column"] or "birth_date") for one in facts for row in one["rows"]}


# What a single file cannot show: that two files disagree; a merge finds that.
ACROSS_FILES = {"disagreement"}


@pytest.mark.parametrize("name", ["roster", "sleep_wide", "fatigue_m0", "fatigue_m6", "bloods"])
def test_check_finds_every_planted_flaw_and_nothing_else(study: Path, name: str) -> None:
    lines = [line.strip("| ").split(" | ") for line in (study / "flaws.md").read_text().splitlines()]
    listed = [line for line in lines if len(line) == 6 and line[1].startswith(name + ".")]
    planted = {(int(row), column) for kind, _, row, column, *_ in listed if kind not in ACROSS_FILES | {"repeated id"}}
    if name == "roster":  # the repeated id is found in both of its rows
        repeated = int(next(row for kind, _, row, *_ in listed if kind == "repeated id"))
        key = (study / "roster.csv").read_text().splitlines()[repeated - 1].split(",")[0]
        rows = [
            at for at, line in enumerate((study / "roster.csv").read_text().splitlines(), 1) if line.startswith(key)
        ]
        planted |= {(row, "crew_id") for row in rows}
    words = [] if name == "bloods" else ["--key", "crew_id"]
    file = "bloods.xlsx" if name == "bloods" else f"{name}.csv"
    assert findings(study, file, *words, status=1) == planted


@pytest.mark.parametrize("name", ["vessels", "port_series"])
def test_check_finds_nothing_in_clean_files(study: Path, name: str) -> None:
    assert findings(study, f"{name}.csv", status=0) == set()


@pytest.mark.parametrize("name", ["roster", "sleep_wide", "fatigue_m0", "fatigue_m6", "bloods"])
def test_a_corrected_file_passes(study: Path, tmp_path: Path, name: str) -> None:
    source = "bloods.xlsx" if name == "bloods" else f"{name}.csv"
    out = str(tmp_path / f"{name}.csv")
    lomrix("correct", source, "-d", "dictionary.toml", "--ledger", f"ledger_{name}.csv", "--out", out, cwd=study)
    words = [] if name == "bloods" else ["--key", "crew_id"]
    lomrix("check", out, *words, "-d", "dictionary.toml", cwd=study)


def test_a_drafted_ledger_filled_in_is_applied(study: Path, tmp_path: Path) -> None:
    ledger = tmp_path / "ledger.csv"
    lomrix(
        "check",
        "fatigue_m0.csv",
        "-k",
        "crew_id",
        "-d",
        "dictionary.toml",
        "--draft-ledger",
        ledger,
        cwd=study,
        status=1,
    )
    lines = list(csv.DictReader(ledger.open()))
    assert list(lines[0]) == ["crew_id", "row", "variable", "old", "action", "new", "why", "by"]
    age = next(line for line in lines if (line["variable"], line["old"]) == ("age", "7"))
    ledger.write_text(f"crew_id,variable,old,new\n{age['crew_id']},age,7,47\n")
    lomrix("correct", "fatigue_m0.csv", "--ledger", ledger, "--out", tmp_path / "x.csv", cwd=study)
    assert (tmp_path / "x.csv").read_text().splitlines()[int(age["row"]) - 1].split(",")[3] == "47"


@pytest.mark.parametrize("suffix", [".parquet", ".arrow", ".jsonl", ".xlsx", ".tsv"])
def test_every_format_carries_types_reasons_and_labels(crew: Path, suffix: str) -> None:
    lomrix("merge", "roster.csv", "sleep.csv", *KEY, "-d", "d.toml", "--out", "first.csv", cwd=crew)
    lomrix("subset", "first.csv", "--out", f"second{suffix}", cwd=crew)
    lomrix("subset", f"second{suffix}", "--out", "third.csv", cwd=crew)
    assert (crew / "third.csv").read_bytes() == (crew / "first.csv").read_bytes()
    shown, _ = lomrix("dictionary", "show", f"second{suffix}", cwd=crew)
    assert "Sleep, month 3" in shown
    before = (crew / f"second{suffix}").read_bytes()
    (crew / f"second{suffix}").unlink()
    (crew / f"second{suffix}.resource.json").unlink(missing_ok=True)
    lomrix("subset", "first.csv", "--out", f"second{suffix}", cwd=crew)
    assert (crew / f"second{suffix}").read_bytes() == before


def test_stated_about_reading(crew: Path) -> None:
    (crew / "x.txt").write_text("id;x;seen\n1;2,5;03/04/2024\n2;ashore;13/04/2024\n")
    words = ["--decimal", ",", "--missing-text", "ashore", "--type", "seen=date:%d/%m/%Y", "--out", "y.csv"]
    lomrix("subset", "x.txt", *words, cwd=crew)
    assert (crew / "y.csv").read_text() == "id,x,seen\n1,2.5,2024-04-03\n2,,2024-04-13\n"
    out, _ = lomrix("profile", "y.csv", "--json", cwd=crew)
    assert json.loads(out)["account"]["listings"][0]["rows"][1]["missing"] == "1 ashore"


def test_standard_input(crew: Path) -> None:
    program = Path(sys.executable).parent / "lomrix"
    for file in ("roster.csv",):
        done = subprocess.run(
            [str(program), "subset", "-", "--columns", "vessel", "--out", "-"],
            cwd=crew,
            capture_output=True,
            check=True,
            input=(crew / file).read_bytes(),
        )
        assert done.stdout == b"vessel\ntern\ngull\ntern\n"


def test_linkage_and_data_are_apart(crew: Path) -> None:
    words = ["deidentify", "roster.csv", "--id", "crew_id", "--remove", "vessel", "--seed", "keys/seed"]
    (crew / "keys").mkdir()
    _, err = lomrix(*words, "--linkage", "link.csv", "--out", "safe.csv", cwd=crew, status=2)
    assert "one folder" in err
    lomrix(*words, "--linkage", "keys/link.csv", "--out", "safe.csv", cwd=crew)
    assert {oct((crew / "keys" / name).stat().st_mode)[-3:] for name in ("link.csv", "seed")} == {"600"}
    assert "roster" not in (crew / "safe.csv.resource.json").read_text()
    first = (crew / "safe.csv").read_bytes()
    lomrix(*words, "--linkage", "keys/link.csv", "--out", "safe.csv", "--overwrite", cwd=crew)
    assert (crew / "safe.csv").read_bytes() == first
    assert (crew / "keys" / "seed").read_bytes() not in first


def test_dictionary_goes_round_and_keeps_a_persons_lines(crew: Path) -> None:
    own = '# my words\n[variables.vessel]\nlabel = "Vessel" # stated twice\ncodes = "ship"\n'
    own += '[codes.ship]\ntern = "The Tern"\n'
    (crew / "mine.toml").write_text(own)
    lomrix("dictionary", "draft", "roster.csv", "--into", "mine.toml", "--out", "new.toml", cwd=crew)
    text = (crew / "new.toml").read_text()
    assert text.startswith(own)
    assert "[variables.crew_id]" in text
    for form in ("book.xlsx", "sheet.csv"):
        lomrix("dictionary", "convert", "mine.toml", "--out", form, cwd=crew)
        lomrix("dictionary", "convert", form, "--out", f"{form}.toml", cwd=crew)
        assert (crew / f"{form}.toml").read_text() == (
            '[variables.vessel]\nlabel = "Vessel"\ncodes = "ship"\n\n[codes.ship]\ntern = "The Tern"\n'
        )
    (crew / "including.toml").write_text('include = ["mine.toml"]\n[variables.crew_id]\nlabel = "Crew"\n')
    out, _ = lomrix("tally", "roster.csv", "vessel", "-d", "including.toml", "--as-labels", cwd=crew)
    assert "The Tern" in out
    assert "values without a label: gull" in out


def test_a_figure_is_drawn(crew: Path) -> None:
    lomrix("tally", "roster.csv", "vessel", "--figure", "f.png", "--quiet", cwd=crew)
    assert (crew / "f.png").read_bytes().startswith(b"\x89PNG")
    _, err = lomrix("tally", "roster.csv", "vessel", "--figure", "f.doc", cwd=crew, status=2)
    assert ".png .svg .pdf" in err


def test_merge_writes_unmatched_keys_and_conflicts(crew: Path) -> None:
    (crew / "more.csv").write_text("crew_id,vessel\n1,tern\n0002,tern\n")
    words = ["merge", "roster.csv", "more.csv", *KEY, "--unmatched", "u.csv", "--conflicts", "c.csv"]
    _, err = lomrix(*words, cwd=crew, status=1)
    assert "--conflicts" in err
    assert (crew / "c.csv").read_text().splitlines()[1] == "0002,3,vessel,gull,set,tern,roster and more differ"
    lomrix("correct", "roster.csv", "--ledger", "c.csv", "--out", "mended.csv", cwd=crew)
    lomrix("merge", "mended.csv", "more.csv", *KEY, "--unmatched", "u.csv", cwd=crew)
    assert "mended,0001,1,2,1,leading zeros,100.0" in (crew / "u.csv").read_text()


def test_waves_are_stacked(study: Path, tmp_path: Path) -> None:
    marked = ["--mark", "month=fatigue_m{month}", "--case", "crew_id"]
    out, _ = lomrix("stack", "fatigue_m0.csv", "fatigue_m6.csv", *marked,
                    "-d", "dictionary.toml", "--out", tmp_path / "f.csv", "--json", cwd=study)  # fmt: skip
    assert json.loads(out)["account"]["balances"][-1]["parts"] == [
        {"kind": "kept", "count": 369, "cause": "mark", "of": "month 0"},
        {"kind": "kept", "count": 342, "cause": "mark", "of": "month 6"},
    ]
    lines = list(csv.DictReader((tmp_path / "f.csv").open()))
    assert {line["f4"] for line in lines if line["month"] == "6"} == {""}
    out, _ = lomrix("tally", tmp_path / "f.csv", "f4", "--by", "month", "--json", cwd=study)
    assert "not-in-file" in out


def test_help_groups_the_options_of_every_command(crew: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "110")
    for entry in ENTRIES:
        lines = lomrix(entry.word, "--help", cwd=crew)[0].splitlines()
        heads = [line for line in lines if line.endswith(":") and not line.startswith(" ")]
        wanted = ["Arguments:", "Options:", "Writing:", "Reading:", "Report:"]
        assert heads == [head for head in wanted if head in heads]
        assert {"Reading:", "Report:"} <= set(heads)
        assert 80 < max(map(len, lines)) <= 110
        if entry.word == "merge":
            assert lines[lines.index("Options:") + 1].startswith("  -k, --key COLUMN ")
