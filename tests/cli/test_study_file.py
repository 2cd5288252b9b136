"""The study file: defaults for every command in a folder, the command line going first."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import pytest

from lomrix.job import cluster
from tests.tables import lomrix


@pytest.fixture
def study(tmp_path: Path) -> Path:
    (tmp_path / "raw").mkdir()
    (tmp_path / "raw" / "a.csv").write_text("id,month,x,day\n1,0,5,05/03/2024\n1,3,none,06/03/2024\n2,0,7,\n")
    (tmp_path / "raw" / "b.csv").write_text("id,y\n1,4\n")
    (tmp_path / "d.toml").write_text('[variables.x]\nlabel = "A measure"\n')
    (tmp_path / "study.toml").write_text(
        'dictionary = "d.toml"\ncase = "id"\noccasion = "month"\nmissing_text = "none"\n'
        'type = ["day=date:%d/%m/%Y"]\nmissing_code = "-7"\n'
    )
    return tmp_path


def test_what_it_reports_is_the_default_of_the_options(study: Path) -> None:
    output, _ = lomrix("derive", "raw/a.csv", "d = change(x)", "--out", "o.csv", cwd=study)
    assert output.startswith(
        "study  study.toml: dictionary d.toml, case id, occasion month, missing_text none, type day="
    )
    assert (study / "o.csv").read_text().splitlines()[1:3] == ["1,0,5,2024-03-05,", "1,3,,2024-03-06,"]
    assert "A measure" in (study / "o.csv.resource.json").read_text()
    out, _ = lomrix("export", "raw/a.csv", "--to", "e.csv", "--json", cwd=study / "..", status=3)
    out, _ = lomrix("export", "raw/a.csv", "--to", "e.csv", "--json", cwd=study)
    assert json.loads(out)["study"].startswith("study.toml")
    assert (study / "e.csv").read_text().splitlines()[2] == "1,3,-7,2024-03-06"


def test_the_command_line_goes_first_and_a_word_switches_it_off(study: Path) -> None:
    lomrix("export", "raw/a.csv", "--to", "e.csv", "--missing-code", "-9", "--missing-text", "5", cwd=study)
    assert (study / "e.csv").read_text().splitlines()[1:3] == ["1,0,-9,2024-03-05", "1,3,-9,2024-03-06"]
    output, _ = lomrix("export", "raw/a.csv", "--to", "f.csv", "--no-study", cwd=study)
    assert "study" not in output
    assert (study / "f.csv").read_text().splitlines()[2] == "1,3,,06/03/2024"
    output, _ = lomrix(
        "merge", "raw/b.csv", "raw/a.csv", "--key", "id", "--expect", "one-to-many", "--out", "m.csv", cwd=study
    )
    assert "2024-03-05" in (study / "m.csv").read_text()
    assert "occasion" not in output.splitlines()[0]


@pytest.mark.parametrize(
    ("words", "applied"),
    [
        (["aggregate", "--by", "month", "--stat", "day: n"], ""),
        (["aggregate", "--by", "month", "--stat", "day: n", "--min-n", "1"], "case id, "),
        (["subset", "--where", "month > 0"], ""), (["subset", "--sample", "1"], "case id, "),
        (["derive", "m = case_mean(month)"], "case id, "), (["derive", "m = month"], ""),
        (["derive", "m = change(month)"], "case id, occasion month, "), (["stack", "raw/b.csv"], ""),
    ],
)  # fmt: skip
def test_case_and_occasion_apply_where_they_have_an_effect(study: Path, words: list[str], applied: str) -> None:
    output, _ = lomrix(words[0], "raw/a.csv", *words[1:], cwd=study, status=None)
    assert output.startswith(f"study  study.toml: dictionary d.toml, {applied}missing_text none, ")
    assert "no effect" not in output


def test_what_does_not_apply_to_an_output_is_left_out(study: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster, "SECONDS", 0.5)
    (study / "study.toml").write_text('case = "id"\nworkers = 2\ndate_form = "%d.%m.%Y"\n')
    output, _ = lomrix("export", "raw/a.csv", "--to", "o.csv", cwd=study)
    assert output.startswith("study  study.toml: workers 2, date_form %d.%m.%Y\n") and "only one part" not in output
    output, _ = lomrix("export", "raw/a.csv", "--to", "o.parquet", cwd=study)
    assert output.startswith("study  study.toml: workers 2\n")
    _, error = lomrix("export", "raw/a.csv", "--to", "p.parquet", "--date-form", "%Y", cwd=study, status=2)
    assert error.startswith("error  --date-form does not apply to a .parquet file.")
    words = ["aggregate", "raw/a.csv", "--by", "id", "--cluster", "tcp://127.0.0.1:9"]
    assert "127.0.0.1:9" in lomrix(*words, cwd=study, status=3)[1]
    _, error = lomrix(*words, "--case", "id", cwd=study, status=2)
    assert error.startswith("error  --case counts cases for --min-n, which was not given.")


def test_a_wrong_study_file_is_named(study: Path) -> None:
    for text, output, status in (
        ('dictionry = "d.toml"', "Did you mean dictionary", 2),
        ("case = 3", "must be a string", 2),
        ("case = ", "is not valid", 3),
    ):
        (study / "study.toml").write_text(text)
        _, error = lomrix("profile", "raw/a.csv", cwd=study, status=status)
        assert output in error and "study" in error
    lomrix("profile", "raw/a.csv", "--no-study", cwd=study)


def test_plan_new_and_a_draft_write_what_to_start_from(study: Path) -> None:
    (study / "study.toml").unlink()
    lomrix("plan", "new", "raw/a.csv", "raw/b.csv", "--out", "plan.toml", cwd=study)
    plan = tomllib.loads((study / "plan.toml").read_text())
    assert [step["name"] for step in plan["steps"]] == ["a", "b", "merged"]
    assert tomllib.loads((study / "study.toml").read_text()) == {}
    _, error = lomrix("run", "plan.toml", cwd=study, status=2)
    assert "The file ledger_a.csv does not exist" in error and "plan.toml, line" in error
    (study / "study.toml").unlink()
    lomrix("dictionary", "draft", "raw/a.csv", "--out", "new.toml", "--study", "study.toml", cwd=study)
    assert tomllib.loads((study / "study.toml").read_text()) == {"dictionary": "new.toml"}
    lomrix("profile", "raw/a.csv", cwd=study)
