"""Lineage: the history of an output is the graph of its tasks, each once, with what went in and came out."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest

from lomrix.core.table.history import History, extend_history
from lomrix.files.hashing import hash_file
from tests.tables import lomrix


def history(path: Path) -> Any:
    return json.loads(path.with_name(path.name + ".resource.json").read_text())["lomrix:history"]


@pytest.fixture
def study(tmp_path: Path) -> Path:
    (tmp_path / "raw").mkdir()
    (tmp_path / "out").mkdir()
    (tmp_path / "raw" / "a.csv").write_text("id,x\n1,5\n2,6\n")
    (tmp_path / "raw" / "m.csv").write_text("variable,old,new\nx,5,50\n")
    (tmp_path / "raw" / "d.toml").write_text('include = ["more.toml"]\n[variables.x]\nlabel = "X"\n')
    (tmp_path / "raw" / "more.toml").write_text('[variables.id]\nlabel = "Id"\n')
    return tmp_path


def test_every_file_that_went_in_and_came_out_is_named_from_the_output(study: Path) -> None:
    words = ["recode", "raw/a.csv", "--map-file", "raw/m.csv", "-d", "raw/d.toml", "--missing-text", "gone"]
    lomrix(*words, "--others", "missing", "--out", "out/b.csv", cwd=study)
    output = history(study / "out" / "b.csv")
    (task,) = output["tasks"].values()
    assert {one["role"]: one["path"] for one in task["inputs"]} == {
        "source": "../raw/a.csv", "map_file": "../raw/m.csv", "dictionary": "../raw/more.toml",
    }  # fmt: skip
    assert [one["path"] for one in task["inputs"]][2:] == ["../raw/d.toml", "../raw/more.toml"]
    for one in task["inputs"]:
        assert one["hash"] == hash_file(study / "out" / one["path"])
    assert task["settings"] == {"others": "missing"}
    assert task["reading"] == {"missing_text": ["gone"]}
    assert task["outputs"] == [{"role": "out", "path": "b.csv", "hash": hash_file(study / "out" / "b.csv")}]


def test_a_task_that_two_branches_share_is_once(study: Path) -> None:
    lomrix("subset", "raw/a.csv", "--out", "s.csv", cwd=study)
    lomrix("recode", "s.csv", "--map", "x: 5=1", "--out", "one.csv", cwd=study)
    lomrix("recode", "s.csv", "--map", "x: 5=2", "--into", "y", "--out", "two.parquet", cwd=study)
    words = ["merge", "one.csv", "two.parquet", "--key", "id", "--overlap", "base", "--conflicts", "c.csv"]
    lomrix(*words, "--out", "m.csv", cwd=study)
    output = history(study / "m.csv")
    assert [task["do"] for task in output["tasks"].values()] == ["subset", "recode", "recode", "merge"]
    ids = list(output["tasks"])
    assert [one["task"] for one in output["tasks"][output["last"]]["inputs"]] == ids[1:3]
    assert {output["tasks"][one]["inputs"][0]["task"] for one in ids[1:3]} == {ids[0]}
    extra = output["tasks"][output["last"]]["outputs"][1]
    assert (extra["role"], extra["hash"]) == ("conflicts", hash_file(study / "c.csv"))
    metadata = pq.read_schema(study / "two.parquet").metadata or {}
    inside = json.loads(metadata[b"lomrix"])["lomrix:history"]
    assert list(inside["tasks"]) == [ids[0], ids[2]]


def test_the_same_task_gives_the_same_bytes(study: Path) -> None:
    for name in ("one", "two"):
        (study / name).mkdir()
        lomrix("subset", "raw/a.csv", "--where", "x > 5", "--out", f"{name}/o.csv", cwd=study)
        lomrix("stack", f"{name}/o.csv", "raw/a.csv", "--out", f"{name}/p.csv", cwd=study)
    for file in ("o.csv", "o.csv.resource.json", "p.csv", "p.csv.resource.json"):
        assert (study / "one" / file).read_bytes() == (study / "two" / file).read_bytes()


def test_a_deidentified_file_has_a_history_that_starts_at_itself(study: Path) -> None:
    lomrix("subset", "raw/a.csv", "--out", "named.csv", cwd=study)
    words = ["deidentify", "named.csv", "--id", "id", "--seed", "raw/seed", "--linkage", "raw/link.csv"]
    lomrix(*words, "--out", "safe.csv", cwd=study)
    text = (study / "safe.csv.resource.json").read_text()
    output = history(study / "safe.csv")
    (task,) = output["tasks"].values()
    assert task["do"] == "deidentify"
    assert "left out because" in task["begins"]
    for secret in ("named", "raw", "link", "seed", (study / "raw" / "seed").read_text().strip()):
        assert secret not in text
    lomrix("subset", "safe.csv", "--out", "later.csv", cwd=study)
    assert [task["do"] for task in history(study / "later.csv")["tasks"].values()] == ["deidentify", "subset"]


def test_a_history_as_it_once_was_kept_is_understood() -> None:
    old = [{"command": "lomrix merge a b", "rows": 3}, {"command": "lomrix to-long m", "rows": 9}]
    found = History.from_json(old)
    assert [task["rows"] for task in found.tasks.values()] == [3, 9]
    assert found.tasks[found.last]["rows"] == 9
    for hostile in (None, 7, {"tasks": 3}, {"tasks": {"a": 1}, "last": "b"}, [1, "x"]):
        assert History.from_json(hostile) == History()
    assert extend_history([found, found], {"do": "x"}).tasks.keys() == {
        *found.tasks,
        extend_history([found], {"do": "x"}).last,
    }
