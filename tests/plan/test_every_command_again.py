"""From the history of what each command wrote, a plan that makes the same bytes in a folder with the raw files only."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from lomrix.core.steps.registry import ENTRIES
from tests.tables import lomrix

RAW = {
    "crew.csv": "id,sex,f1,f2,f3,x_m0,x_m3\nK1,1,0,3,1,5,6\nK2,2,1,2,1,7,\nK3,1,3,0,2,-9,8\n",
    "more.csv": "id,age,height\nK1,30,1.5\nK2,41,1.75\nK9,50,2\n",
    "long.csv": "id,month,x,ship\nK1,0,5,tern\nK1,3,6,tern\nK2,0,7,gull\n",
    "late.csv": "id,month,x,ship\nK3,0,1,gull\n",
    "ledger.csv": "id,variable,old,action,new,why\nK2,x_m0,7,set,8,typed wrong\n",
    "spells.csv": "id,from,until,job\nK1,2024-01-01,2024-02-10,mate\nK1,2024-02-11,,cook\nK2,2024-03-01,2024-03-31,x\n",
    "days.csv": "id,day\nK1,2024-02-10\nK2,2024-02-10\nK3,2024-02-10\n",
    "trial.csv": "arm,pre,post\na,1,2\na,2,4\na,3,5\nb,1,4\nb,2,5\nb,4,9\n",
    "map.csv": "variable,old,new\nsex,1,10\n",
    "d.toml": '[variables.sex]\nlabel = "Sex"\ncodes = "sex"\n'
    '[variables."x_m{month}"]\nmissing = { "-9" = "refused" }\n[codes.sex]\n1 = "female"\n2 = "male"\n',
}  # fmt: skip
DICTIONARY = ["-d", "d.toml"]
LONG = ["--case", "id", "--occasion", "month"]
HEADER = ["--header", "{measure}_m{month}"]
COMMANDS = {
    "profile": ["crew.csv", *DICTIONARY],
    "tally": ["crew.csv", "sex", *DICTIONARY],
    "coverage": ["long.csv", *LONG, "--figure", "out/f.png"],
    "check": ["crew.csv", "--key", "id", *DICTIONARY],
    "correct": ["crew.csv", "--ledger", "ledger.csv", *DICTIONARY],
    "recode": ["crew.csv", "--map-file", "map.csv", "--map", "f1: 0=9, 3=missing:odd", *DICTIONARY],
    "subset": ["crew.csv", "--where", "f1 < 9", "--columns", "id,x_*", "--missing-text", "7", "--missing", "words"],
    "subset one row": ["long.csv", "--one-per", "id", "--pick", "latest:x", "--ties", "last", "--left-out", "out/l.csv",
                       "--sort-by", "-x,id"],
    "subset a sample": ["long.csv", "--sample", "1", "--sample-by", "ship", "--case", "id", "--seed", "7"],
    "deidentify": ["crew.csv", "--id", "id", "--seed", "k/seed", "--linkage", "k/link.csv"],
    "merge": ["crew.csv", "more.csv", "--key", "id", "--status", "from", "--unmatched", "out/u.csv", *DICTIONARY],
    "merge a spell": ["days.csv", "spells.csv", "--key", "id", "--during", "day=from..until", "--rows", "base"],
    "to-long of spells": ["spells.csv", "--case", "id", "--spell", "from..until", "--every", "month", "--until",
                          "2024-12-31"],
    "coverage by": ["long.csv", *LONG, "--by", "ship", "--min-n", "2", "--figure", "out/f.png"],
    "compare adjusted": ["trial.csv", "--measure", "post", "--between", "arm", "--adjust", "pre"],
    "aggregate a condition": ["long.csv", "--by", "bands(x, 6, labels=('low', 'high'))", "--stat", "many = n(x >= 6)"],
    "stack with pairs": ["long.csv", "late.csv", "--mark", "part=1,2", "--draft-pairs", "out/p.csv"],
    "stack": ["long.csv", "late.csv", "--mark", "part=1,2"],
    "to-long": ["crew.csv", "--case", "id", *HEADER, "--keep-empty", *DICTIONARY],
    "to-wide": ["long.csv", *LONG, *HEADER, "--constant", "ship"],
    "to-balanced": ["long.csv", *LONG],
    "derive": ["long.csv", "d = change(x)", "y = x ** 2", *LONG, "--label", "d=Change, by month"],
    "score": ["crew.csv", "--name", "f", "--items", "f1..f3", "--reverse", "f2", "--span", "0:3", "--at-least", "2"],
    "aggregate": ["long.csv", "--by", "ship", "--stat", "x: n mean", "--stat", "x: sd"],
    "compare": ["long.csv", "--measure", "x", "--between", "ship"],
    "report": ["long.csv", *LONG, "--measure", "x"],
    "changes": ["crew.csv", "crew.csv", "--key", "id"],
    "export": ["crew.csv", "--missing-code", "-9", "--missing-code", "x_*:-8", "--sort-by", "sex", "--names-max", "6"],
}  # fmt: skip

# Reports without a table, and a ledger that stands at the end of a road.
WITHOUT_TABLE = ("profile", "check", "changes", "report")


def everything(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def test_every_step_is_among_them() -> None:
    assert {entry.word for entry in ENTRIES} == {name.partition(" ")[0] for name in COMMANDS}


@pytest.mark.parametrize("name", COMMANDS)
def test_a_plan_from_the_history_makes_the_same_bytes(name: str, tmp_path: Path) -> None:
    word = name.partition(" ")[0]
    first, second = tmp_path / "first", tmp_path / "second"
    for folder in (first, second):
        (folder / "raw").mkdir(parents=True)
        for file, text in RAW.items():
            (folder / file).write_text(text)
    (first / "out").mkdir()
    (first / "k").mkdir()
    out = ["--to" if word == "export" else "--out", "out/made.html" if word == "report" else "out/made.csv"]
    gives_table = word not in ("check", "profile")
    lomrix(word, *COMMANDS[name], *(out if gives_table else []), cwd=first, status=None)
    if word in WITHOUT_TABLE:
        return
    if word == "deidentify":
        _, error = lomrix("history", "out/made.csv", "--as-plan", "plan.toml", cwd=first, status=2)
        assert "hidden because it identifies people" in error
        return
    lomrix("derive", "out/made.csv", "more = 1", "--out", "out/last.csv", cwd=first)
    lomrix("history", "out/last.csv", "--as-plan", "plan.toml", "--as-commands", "again.sh", cwd=first)
    shutil.copy(first / "plan.toml", second / "plan.toml")
    lomrix("run", "plan.toml", cwd=second)
    made = everything(second / "out")
    assert made == everything(first / "out")
    assert "lomrix " + word in (first / "again.sh").read_text()
    plan = (first / "plan.toml").read_text()
    assert f'do = "{word}"' in plan and "overlap" not in plan  # nothing that is a default
