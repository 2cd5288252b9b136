"""Plans: checked before anything is read, run once, and only run again where something changed."""

from __future__ import annotations

import json
import threading
from pathlib import Path
from unittest import mock

import pytest

from lomrix.plan import runner
from lomrix.plan.document import fill_in
from lomrix.plan.memory import Memory
from tests.tables import lomrix

PLAN = """
[parameters]
wave = 3

[[steps]]
name = "whole"
do = "stack"
from = "raw/f_m*.csv"
mark = "month=f_m{month}"
case = "id"

[[steps]]
name = "seen"
do = "subset"
source = "whole"
where = "month <= {wave}"
expect_rows = 4
expect_cases = { id = 2 }
expect_rules = ["x >= 0"]
out = "out/seen.csv"

[[steps]]
name = "means"
do = "aggregate"
source = "out/seen.csv"
by = "month"
stat = "x: n mean"
out = "out/means.csv"
"""


@pytest.fixture
def study(tmp_path: Path) -> Path:
    (tmp_path / "raw").mkdir()
    for month, rows in (("0", "a,1\nb,2\n"), ("3", "a,3\nb,4\n"), ("12", "a,9\nb,8\n")):
        (tmp_path / "raw" / f"f_m{month}.csv").write_text(f"id,x\n{rows}")
    (tmp_path / "plan.toml").write_text(PLAN)
    return tmp_path


def plan(study: Path, *words: str, status: int = 0) -> str:
    output, error = lomrix("run", "plan.toml", *words, cwd=study, status=status)
    return output + error


def fates(study: Path, *words: str, status: int = 0) -> list[str]:
    output = json.loads(plan(study, *words, "--json", status=status))
    return [step["result"] for step in output["account"]["facts"]["steps"]]


def test_a_step_without_a_file_is_not_run_again_for_the_next_one(study: Path) -> None:
    assert fates(study) == ["done", "done", "done"]
    (study / "plan.toml").write_text(PLAN.replace("month <= {wave}", "month < {wave} + 1"))
    assert fates(study) == ["unchanged", "done", "done"]
    # What is kept of it is looked at before it is used.
    for file in study.rglob("*.task"):
        file.write_text("{}")
    (study / "plan.toml").write_text(PLAN)
    assert fates(study)[1:] == ["done", "done"]
    assert "raw/f_m3.csv" in lomrix("history", "out/seen.csv", cwd=study)[0]


def test_a_plan_is_run_and_not_run_again(study: Path) -> None:
    assert fates(study) == ["done", "done", "done"]
    assert (study / "out" / "means.csv").read_text() == "month,x_n,x_mean\n0,2,1.5\n3,2,3.5\n"
    before = {path: path.stat().st_mtime_ns for path in (study / "out").iterdir()}
    assert fates(study) == ["unchanged", "unchanged", "unchanged"]
    assert before == {path: path.stat().st_mtime_ns for path in (study / "out").iterdir()}
    assert fates(study, "--fresh") == ["done", "done", "done"]
    (study / "raw" / "f_m0.csv").write_text("id,x\na,5\nb,2\n")
    assert fates(study) == ["done", "done", "done"]
    assert "0,2,3.5" in (study / "out" / "means.csv").read_text()
    (study / "plan.toml").write_text(PLAN.replace("n mean", "n"))
    assert fates(study) == ["unchanged", "unchanged", "done"]


@pytest.mark.parametrize("start", [mock.Mock(), mock.Mock(side_effect=RuntimeError("can't start new thread"))])
def test_a_plan_is_run_where_no_thread_finds_memory(
    study: Path, monkeypatch: pytest.MonkeyPatch, start: mock.Mock
) -> None:
    monkeypatch.setattr(runner, "PATIENCE", 0.01)
    with mock.patch("_thread.start_new_thread", start):
        assert fates(study) == ["done", "done", "done"]


def test_outputs_that_were_touched_are_not_replaced(study: Path) -> None:
    plan(study)
    (study / "out" / "means.csv").write_text("mine\n")
    assert "already exists" in plan(study, status=3)
    assert (study / "out" / "means.csv").read_text() == "mine\n"
    assert fates(study, "--overwrite") == ["unchanged", "unchanged", "done"]
    (study / "out" / "means.csv").unlink()
    assert fates(study) == ["unchanged", "unchanged", "done"]


def test_a_damaged_memory_is_not_believed(study: Path) -> None:
    plan(study)
    for path in (study / ".lomrix").glob("*.arrow"):
        path.write_bytes(path.read_bytes()[:-40] + b"\0" * 40)
    (study / "plan.toml").write_text(PLAN.replace("month <= {wave}", "month < 12"))
    assert fates(study) == ["unchanged", "done", "done"]
    for path in (study / ".lomrix").glob("*.json"):
        path.write_text('{"form": 99}')
    assert fates(study, "--overwrite") == ["done", "done", "done"]


def test_parameters_parts_and_rehearsals(study: Path) -> None:
    output = plan(study, "--set", "wave=12", status=1)
    assert "4 rows were expected, but there are 6" in output and "plan.toml, line 12" in output
    assert "no parameter wav" in plan(study, "--set", "wav=1", status=2)
    assert fates(study, "--rehearse") == ["done", "done", "done"]
    assert not list((study / "out").glob("*"))
    assert len(fates(study, "--until", "seen")) == 2
    assert not (study / "out" / "means.csv").exists()
    assert len(fates(study, "--from-step", "means")) == 3
    assert "Did you mean means" in plan(study, "--until", "mean", status=2)
    assert fill_in("{measure}_m{month}", {"wave": "1"}) == "{measure}_m{month}"


def test_the_flow_is_shown(study: Path) -> None:
    assert "raw/f_m0.csv, raw/f_m3.csv, raw/f_m12.csv" in plan(study, "--show", "text")
    mermaid = plan(study, "--show", "mermaid")
    assert mermaid.startswith("flowchart LR\n") and "s0 --> s1" in mermaid and "s1 --> s2" in mermaid
    svg = plan(study, "--show", "svg")
    assert svg.count("<rect") == 6 and svg.count("<path") == 5 and "<title>" in svg


@pytest.mark.parametrize(
    ("old", "new", "expected", "line"),
    [
        ('do = "stack"', 'do = "stak"', "Did you mean stack", 7),
        ("where = ", "wher = ", "Did you mean where", 16),
        ('stat = "x: n mean"', 'stat = "x: n average"', "Unknown statistic average", 27),
        ('where = "month <= {wave}"', 'where = "month <="', "cannot be understood", 16),
        ("expect_rows = 4", 'expect_rows = "four"', "not a number of rows", 17),
        ('name = "means"', 'name = "seen"', "Two steps are called seen", 23),
        ('source = "whole"', 'source = "whol"', "Did you mean whole", 15),
        ('source = "whole"', 'source = "seen"', "needs itself", 12),
        ('source = "whole"', 'source = "out/means.csv"', "in a circle", 12),
        ('out = "out/means.csv"', 'out = "out/seen.csv"', "would be written by seen and by means", 28),
        ('out = "out/means.csv"', 'out = "raw/f_m0.csv"', "in a circle", 5),
        ('out = "out/means.csv"', 'out = "plan.toml"\ndictionary = "plan.toml"', "is an input", 28),
        ('out = "out/means.csv"', 'out = "../means.csv"', "leaves the plan's folder", 28),
        ('from = "raw/f_m*.csv"', 'from = "raw/g_*.csv"', "No files matched", 8),
        ('from = "raw/f_m*.csv"', 'from = "raw/f_m1.csv"', "raw/f_m12.csv", 8),
        ('by = "month"', 'by = "month"\nmin_n = -1', "at least 0", 27),
        ('name = "means"', 'name = "two words"', "cannot be a name", 23),
    ],
)  # fmt: skip
def test_a_wrong_plan_is_refused_before_anything_is_read(
    study: Path, old: str, new: str, expected: str, line: int
) -> None:
    text = PLAN.replace(old, new)
    assert text != PLAN
    (study / "plan.toml").write_text(text)
    (study / "raw" / "f_m0.csv").write_text("")  # reading it would be another error
    answer = plan(study, status=2)
    assert expected in answer
    assert f"plan.toml, line {line}" in answer
    assert not (study / "out").exists()


def test_files_that_are_not_plan(study: Path) -> None:
    for text, output, status in (
        ("[[steps", "not valid TOML", 3),
        ("x = 1\n", "no key x", 2),
        ("steps = 3\n", "no steps", 2),
    ):
        (study / "plan.toml").write_text(text)
        assert output in plan(study, status=status)
    (study / "plan.toml").write_text(PLAN.replace("../", ""))
    lomrix("run", "plam.toml", cwd=study, status=3)


def test_a_step_that_fails_leaves_what_was_there_and_reports_how_to_go_on(study: Path) -> None:
    plan(study)
    before = (study / "out" / "seen.csv").read_bytes()
    (study / "raw" / "f_m0.csv").write_text("id,x\na,-5\nb,2\n")
    output = plan(study, status=1)
    assert "1 row breaks the rule x >= 0" in output and "not run: means" in output
    assert "it continues with seen" in output
    (study / "raw" / "f_m0.csv").write_text("id,x\na,5\n")
    assert "there are 3" in plan(study, status=1)
    (study / "raw" / "f_m0.csv").write_text("id,x\na,5\nc,5\n")
    assert "3 cases" not in plan(study, status=1)
    (study / "raw" / "f_m0.csv").write_text("id,x\na,1\nb,2\n")
    plan(study)
    assert (study / "out" / "seen.csv").read_bytes() == before


def test_a_step_that_stops_over_a_column_shows_what_was_read_in_it(study: Path) -> None:
    (study / "raw" / "ages.csv").write_text("id,age\n1,20\n2,15 est\n3,31\n")
    step = '[[steps]]\nname = "older"\ndo = "derive"\nfrom = "raw/ages.csv"\nexpressions = ["y = age + 1"]\n'
    (study / "plan.toml").write_text(step)
    output = plan(study, status=2)
    assert "look at\n  ! ages.age: kept as text: 1 of 3 cells is not a number. (row 3" in output
    assert (
        "error  older: Arithmetic needs numbers, but an operand is string.\nwhere  plan.toml, line 1; age + 1" in output
    )


def test_a_source_that_changes_while_the_plan_runs(study: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from lomrix.job.run import run as real

    def changing(*words: object, **more: object) -> object:
        made = real(*words, **more)  # type: ignore[arg-type]
        (study / "raw" / "f_m3.csv").write_text("id,x\na,7\nb,7\n")
        return made

    monkeypatch.setattr("lomrix.plan.runner.run", changing)
    assert "raw/f_m3.csv changed while the plan ran" in plan(study, status=1)


def test_two_runs_at_once_and_a_memory_of_bounded_size(study: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    answers: list[list[str]] = []
    monkeypatch.chdir(study)
    from lomrix.plan.document import read_document
    from lomrix.plan.plan import check_plan
    from lomrix.plan.runner import PlanRun

    def once() -> None:
        running = PlanRun(check_plan(read_document(Path("plan.toml"), {})), Memory(Path()), overwrite=True, fresh=True)
        answers.append([fact.fate for fact in running.run()])

    threads = [threading.Thread(target=once) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == [["done"] * 3] * 3
    assert not [path for path in (study / ".lomrix").iterdir() if path.name.startswith(".")]
    monkeypatch.setattr("lomrix.plan.memory.MAX_BYTES", 1)
    (study / "raw" / "f_m0.csv").write_text("id,x\na,2\nb,2\n")
    once()
    assert not list((study / ".lomrix").glob("*.arrow"))


# --------------------------------------------------------------------- history


def test_a_history_is_shown_and_checked(study: Path) -> None:
    plan(study)
    output, _ = lomrix("history", "out/means.csv", cwd=study)
    lines = [line.split() for line in output.splitlines()]
    assert lines[5][:3] == ["out/means.csv", "aggregate", "2"]
    assert lines[6][:4] == ["└", "out/seen.csv", "subset", "4"]
    assert lines[7][:4] == ["└", "(whole)", "stack", "6"]
    assert lines[8][:3] == ["└", "raw/f_m0.csv", "2"]
    lomrix("history", "out/means.csv", "--check", cwd=study)
    (study / "raw" / "f_m3.csv").write_text("id,x\na,3\nb,44\n")
    (study / "raw" / "f_m12.csv").unlink()
    output, _ = lomrix("history", "out/means.csv", "--check", cwd=study, status=1)
    assert "raw/f_m3.csv: changed, so the file would be different if made again" in output
    assert "raw/f_m12.csv: missing" in output
    output, _ = lomrix("history", "out/means.csv", "--full", cwd=study)
    assert "2 condition false, left out" in output
    _, error = lomrix("history", "raw/f_m0.csv", cwd=study, status=2)
    assert "has no history" in error


def test_provenance_is_the_graph_in_an_open_form(study: Path) -> None:
    plan(study)
    lomrix("history", "out/means.csv", "--as-prov", "p.json", cwd=study)
    output = json.loads((study / "p.json").read_text())
    assert set(output) == {"prefix", "entity", "activity", "agent", "used", "wasGeneratedBy", "wasAssociatedWith"}
    assert sorted(one["prov:label"] for one in output["activity"].values()) == ["aggregate", "stack", "subset"]
    assert {"file:raw/f_m0.csv", "file:out/seen.csv", "file:out/means.csv"} <= set(output["entity"])
    for kind in ("used", "wasGeneratedBy"):
        for one in output[kind].values():
            assert one["prov:entity"] in output["entity"] and one["prov:activity"] in output["activity"]


def test_a_hostile_history_is_only_shown(study: Path) -> None:
    plan(study)
    beside = study / "out" / "means.csv.resource.json"
    output = json.loads(beside.read_text())
    history = output["lomrix:history"]
    last = history["tasks"][history["last"]]
    last["do"], last["summary"], last["inputs"][0]["path"] = "rm -rf", "\x1b[2J<script>", "../../../../etc/passwd"
    last["balances"], last["settings"] = "none", {"x": ["a"]}
    beside.write_text(json.dumps(output))
    shown, _ = lomrix("history", "out/means.csv", "--full", cwd=study)
    assert "\x1b" not in shown
    _, error = lomrix("history", "out/means.csv", "--as-plan", "q.toml", cwd=study, status=2)
    assert "does not know" in error
    history["tasks"] = {"a": 1}
    beside.write_text(json.dumps(output))
    lomrix("history", "out/means.csv", cwd=study, status=2)


def test_a_dictionary_that_changed_counts_with_all_that_it_includes(study: Path) -> None:
    (study / "d.toml").write_text('include = ["more.toml"]\n')
    (study / "more.toml").write_text('[variables.x]\nlabel = "one"\n')
    (study / "plan.toml").write_text(PLAN.replace('do = "aggregate"', 'do = "aggregate"\ndictionary = "d.toml"'))
    plan(study)
    assert fates(study) == ["unchanged"] * 3
    (study / "more.toml").write_text('[variables.x]\nlabel = "two"\n')
    assert fates(study) == ["unchanged", "unchanged", "done"]
    assert "mean of two" in (study / "out" / "means.csv.resource.json").read_text()


def test_a_plan_takes_names_away_and_shows_no_secret(study: Path) -> None:
    (study / "plan.toml").write_text(
        '[[steps]]\nname = "safe"\ndo = "deidentify"\nsource = "raw/f_m0.csv"\nid = "id"\nseed = "keys/seed"\n'
        'linkage = "keys/link.csv"\nout = "out/safe.csv"\n'
        '[[steps]]\nname = "means"\ndo = "aggregate"\nsource = "safe"\nby = "id"\nstat = "x: mean"\n'
        'out = "out/means.csv"\n'
    )
    (study / "keys").mkdir()
    (study / "keys" / "seed").write_text("a secret of some length\n")
    assert fates(study) == ["done", "done"]
    first = (study / "out" / "means.csv").read_text()
    assert fates(study) == ["unchanged", "unchanged"]
    (study / "keys" / "seed").write_text("another secret of some length\n")
    assert fates(study) == ["done", "done"]
    assert (study / "out" / "means.csv").read_text() != first
    kept = "".join(path.read_text(errors="replace") for path in (study / ".lomrix").iterdir())
    assert "secret of some length" not in kept + (study / "out" / "means.csv.resource.json").read_text()


def test_a_table_that_somebody_put_into_the_memory_is_not_believed(study: Path) -> None:
    plan(study)
    (kept,) = (study / ".lomrix").glob("*.arrow")
    (study / "other.csv").write_text("id,x,month\nz,99,0\n")
    lomrix("subset", "other.csv", "--out", str(kept), "--overwrite", cwd=study)
    (study / "plan.toml").write_text(PLAN.replace("month <= {wave}", "month < 12"))
    assert fates(study) == ["unchanged", "done", "done"]
    assert "99" not in (study / "out" / "seen.csv").read_text()


def test_a_watched_plan_runs_again_when_a_source_changes_and_waits_where_it_is_wrong(
    study: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    raw, seen = study / "raw" / "f_m3.csv", []

    def edited(_: float) -> None:
        """What a person does while the program waits."""
        seen.append((study / "out" / "means.csv").read_text().splitlines()[-1])
        time_ = len(seen)
        if time_ == 1:
            raw.write_text("id,x\na,13\nb,4\n")
        elif time_ == 2:
            (study / "plan.toml").write_text(PLAN + "[[steps\n")
        elif time_ == 3:
            (study / "plan.toml").write_text(PLAN.replace("n mean", "n max"))
        elif time_ == 5:
            raise KeyboardInterrupt

    monkeypatch.setattr("lomrix.cli.plans.time.sleep", edited)
    output = plan(study, "--watch")
    assert seen == ["3,2,3.5", "3,2,8.5", "3,2,8.5", "3,2,13", "3,2,13"]
    assert output.count("is not valid TOML") == 1


def test_rows_that_were_left_out_are_those_of_the_account_and_no_others(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,5\n2,6\n3,7\n4,8\n")
    (tmp_path / "b.csv").write_text("id,y\n1,5\n2,6\n9,7\n")
    steps = [
        ("all", "merge", 'base = "a.csv"\nadded = "b.csv"\nkey = "id"'),
        ("both", "merge", 'base = "a.csv"\nadded = "b.csv"\nkey = "id"\nrows = "matched"'),
        ("some", "subset", 'source = "a.csv"\nwhere = "x > 5"'),
    ]
    text = "".join(f'[[steps]]\nname = "{name}"\ndo = "{do}"\n{more}\n' for name, do, more in steps)
    (tmp_path / "p.toml").write_text(text)
    account = json.loads(lomrix("run", "p.toml", "--json", cwd=tmp_path)[0])["account"]
    # Of all nothing is lost; of both two rows of a and one of b; of some the first.
    assert [step["left out"] for step in account["facts"]["steps"]] == [0, 3, 1]
