"""Nothing that is read can be an output, and every write is whole: old or new, never a mixture, nothing lost."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from lomrix.files.staging import FileSink, remove_leftovers
from tests.tables import lomrix


@pytest.fixture
def files(tmp_path: Path) -> Path:
    (tmp_path / "a.csv").write_text("id,x\n1,1\n2,2\n")
    (tmp_path / "lib.toml").write_text('[codes.yn]\n1 = "no"\n2 = "yes"\n')
    (tmp_path / "d.toml").write_text('include = ["lib.toml"]\n[variables.x]\nlabel = "Score"\ncodes = "yn"\n')
    lomrix("dictionary", "convert", "d.toml", "--out", "dd.csv", cwd=tmp_path)
    lomrix("export", "a.csv", "--to", "b.csv", cwd=tmp_path)
    (tmp_path / "k.txt.j2").write_text("{{ 1 }}")
    (tmp_path / "linked").symlink_to(tmp_path)
    return tmp_path


def everything(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


READ = [
    "history b.csv --as-prov b.csv.resource.json",
    "history b.csv --as-plan p.toml --as-prov linked/b.csv",
    "dictionary draft a.csv -d d.toml --out d.toml",
    "dictionary draft a.csv -d d.toml --out lib.toml",
    "dictionary draft a.csv --into d.toml --out n.toml --study a.csv",
    "dictionary convert dd.csv --out dd.codes.csv",
    "dictionary convert d.toml --out lib.toml",
    "export a.csv -d dd.csv --to dd.codes.csv",
    "profile b.csv --out b.csv.resource.json",
    "export a.csv --to linked/a.csv",
    "export a.csv --to out.csv --companion k.txt.j2 --key-list k.txt.j2",
]


@pytest.mark.parametrize("line", READ)
def test_nothing_that_is_read_is_an_output(files: Path, line: str) -> None:
    before = everything(files)
    lomrix(*line.split(), "--overwrite", cwd=files, status=2)
    assert everything(files) == before


def test_a_package_never_replaces_what_it_is_made_of(files: Path) -> None:
    lomrix("export", "a.csv", "--to", "pkg", "--form", "package", cwd=files)
    before = everything(files)
    lomrix("export", "pkg/a.csv", "--to", "pkg", "--form", "package", "--overwrite", cwd=files, status=2)
    assert everything(files) == before
    (files / "other").symlink_to(files / "pkg")
    for place in ("pkg/../pkg", "other"):
        lomrix("export", "a.csv", "--to", place, "--form", "package", "--overwrite", cwd=files)
        assert sorted(one.name for one in (files / "pkg").iterdir()) == ["a.csv", "datapackage.json"]
    assert (files / "other").is_symlink()


def test_a_package_that_cannot_be_renamed_leaves_the_old_one(files: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    lomrix("export", "a.csv", "--to", "pkg", "--form", "package", cwd=files)
    before, rename = everything(files), Path.rename

    def failing(path: Path, target: Path) -> Path:
        if path.name.endswith(".part"):
            raise OSError(28, "No space left on device")
        return rename(path, target)

    monkeypatch.setattr(Path, "rename", failing)
    lomrix("export", "b.csv", "--to", "pkg", "--form", "package", "--overwrite", cwd=files, status=3)
    assert everything(files) == before


def test_what_a_dead_run_left_goes_and_what_it_took_away_comes_back(tmp_path: Path) -> None:
    ended = subprocess.Popen([sys.executable, "-c", ""])
    ended.wait()
    for name, kind in (("pkg", "before"), ("pkg", "part"), ("new", "part")):
        (tmp_path / f".{name}.{ended.pid}-0123abcd.{kind}").mkdir()
        (tmp_path / f".{name}.{ended.pid}-0123abcd.{kind}" / "a.csv").write_text(kind)
    for name in ("pkg", "new"):
        remove_leftovers(tmp_path / name)
    assert everything(tmp_path) == {"pkg/a.csv": b"before"}


def test_a_failed_overwrite_leaves_data_and_descriptor(files: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    before, replace = everything(files), Path.replace

    def failing(part: Path, place: Path) -> Path:
        if place.name == "b.csv" and part.name.endswith(".part"):
            raise PermissionError(1, "Operation not permitted")
        return replace(part, place)

    monkeypatch.setattr(Path, "replace", failing)
    words = ["derive", "a.csv", "x = x + 1", "--replace", "--out", "b.csv", "--overwrite"]
    lomrix(*words, cwd=files, status=3)
    assert everything(files) == before


def test_several_outputs_are_all_written_or_none(files: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    commit = FileSink.commit

    def late(sink: FileSink) -> object:
        # Another program is quicker.
        if sink.path.stem == "u":
            sink.path.write_text("theirs")
        return commit(sink)

    monkeypatch.setattr(FileSink, "commit", late)
    for line in (["merge", "a.csv", "b.csv", "--key", "id,x", "--unmatched", "n.csv", "--out", "u.csv"],
                 ["history", "b.csv", "--as-plan", "p.toml", "--as-commands", "u.sh"]):  # fmt: skip
        before = everything(files)
        _, output = lomrix(*line, cwd=files, status=3)
        assert everything(files) == {**before, line[-1]: b"theirs"}
        assert f"{line[-1]} cannot be written" in output
        (files / line[-1]).unlink()


@pytest.mark.parametrize("kind", ["fifo", "device"])
def test_what_is_not_a_plain_file_is_not_replaced(files: Path, kind: str) -> None:
    place = files / "z.csv"
    if kind == "fifo":
        os.mkfifo(place)
    else:
        place.symlink_to("/dev/null")
    _, output = lomrix("export", "a.csv", "--to", "z.csv", "--overwrite", cwd=files, status=3)
    assert "not a regular file" in output
    assert not place.is_file()
    assert Path("/dev/null").is_char_device()


def rows_of(path: Path) -> list[tuple[object, ...]]:
    with sqlite3.connect(path) as connection:
        return connection.execute("select * from t order by 1").fetchall()


def test_an_append_that_fails_adds_no_row(files: Path) -> None:
    with sqlite3.connect(files / "s.db") as connection:
        connection.execute("create table t (id integer primary key, x integer)")
        connection.execute("insert into t values (2, 9)")
    words = ["export", "a.csv", "--to", "sqlite:///s.db#t", "--if-exists", "append"]
    lomrix(*words, cwd=files, status=3)
    assert rows_of(files / "s.db") == [(2, 9)]
    (files / "a.csv").write_text("id,x\n3,1\n4,2\n")
    lomrix(*words, cwd=files)
    assert rows_of(files / "s.db") == [(2, 9), (3, 1), (4, 2)]


def test_two_writers_of_one_table_do_not_both_succeed(files: Path) -> None:
    (files / "big.csv").write_text("id,x\n" + "".join(f"{at},{at % 7}\n" for at in range(20_000)))
    program = shutil.which("lomrix", path=Path(sys.executable).parent) or "lomrix"
    for place in ("sqlite:///two.db#t", "two.csv"):
        line = [program, "export", "big.csv", "--to", place, "--quiet"]
        both = [subprocess.Popen(line, cwd=files, stderr=subprocess.PIPE) for _ in range(2)]
        assert sorted(one.wait(60) for one in both) == [0, 3]
        for one in both:
            one.communicate()
    assert len(rows_of(files / "two.db")) == 20_000


PLAN = '[[steps]]\nname = "s"\ndo = "export"\nfrom = "a.csv"\n{more}\n'


def run_plan(files: Path, more: str, status: int = 0, *words: str) -> str:
    (files / "p.toml").write_text(PLAN.format(more=more))
    out, output = lomrix("run", "p.toml", *words, cwd=files, status=status)
    return out + output


def test_whatever_a_step_reads_makes_it_run_again(files: Path) -> None:
    (files / "raw").mkdir()
    lomrix("export", "a.csv", "--to", "raw", "--form", "package", cwd=files)
    (files / "sub").mkdir()
    (files / "sub" / "k.txt.j2").write_text("{{ 1 }}")
    more = 'source = "raw/a.csv"\ndictionary = "dd.csv"\nout = "o/out.csv"\ncompanion = "sub/k.txt.j2"'
    plan = PLAN.replace('from = "a.csv"\n', "").format(more=more)
    (files / "p.toml").write_text(plan)
    assert "0 unchanged" in lomrix("run", "p.toml", cwd=files)[0]
    assert "1 unchanged" in lomrix("run", "p.toml", cwd=files)[0]
    for name in ("dd.codes.csv", "raw/datapackage.json", "sub/k.txt.j2"):
        text = (files / name).read_text()
        (files / name).write_text(text.replace("yes", "Yes").replace("{{ 1 }}", "{{ 2 }}").replace('"id"', '"id" '))
        assert "0 unchanged" in lomrix("run", "p.toml", cwd=files)[0], name
        assert "1 unchanged" in lomrix("run", "p.toml", cwd=files)[0], name


REFUSED = [
    ('out = "linked/a.csv"', "needs itself"),
    ('out = "linked/o.csv"\n[[steps]]\nname = "t"\ndo = "export"\nfrom = "a.csv"\nout = "o.csv"', "written by"),
    ('out = "o.csv"\nmissing = "foo"', "missing cannot be"),
    ('out = "o.csv"\nmissing = 2024-01-01', "missing cannot be"),
    ('out = "o\\u0000.csv"', "a character that no name has"),
    ('out = "o.csv"\ndictionary = "\\u0000"', "a character that no name has"),
    ('out = "out/o.csv"', "leaves the plan's folder"),
    ('out = "sqlite:///../x.db#t"', "leaves the plan's folder"),
]


@pytest.mark.parametrize(("more", "expected"), REFUSED)
def test_a_plan_that_cannot_be_is_refused(files: Path, more: str, expected: str, tmp_path: Path) -> None:
    away = tmp_path.with_name(tmp_path.name + "_away")
    away.mkdir(exist_ok=True)
    (files / "out").symlink_to(away)
    assert expected in run_plan(files, more, 2)


def test_a_plan_names_one_table_where_a_step_takes_one(files: Path) -> None:
    for more in ("*.csv", '["a.csv", "b.csv"]'):
        settings = more if more.startswith("[") else f'"{more}"'
        (files / "p.toml").write_text(
            PLAN.replace('"a.csv"', settings).replace("export", "subset").format(more='out = "o/o.csv"')
        )
        assert "takes one table" in lomrix("run", "p.toml", cwd=files, status=2)[1]
    (files / "p.toml").write_text('allow_outside = "false"\n' + PLAN.format(more='out = "o.csv"'))
    assert "true or false" in lomrix("run", "p.toml", cwd=files, status=2)[1]
    (files / "p.toml").write_bytes(b"\xef\xbb\xbf" + PLAN.format(more='out = "o.csv"').encode())
    lomrix("run", "p.toml", cwd=files)


@pytest.mark.parametrize("place", ["o.xlsx", "o.csv", "o.parquet", "o.arrow", "o.jsonl", "sqlite:///o.db#t"])
def test_a_full_disk_is_reported_and_leaves_nothing(files: Path, place: str) -> None:
    (files / "big.csv").write_text("id,x\n" + "".join(f"{at},{at * 7919 % 10007}\n" for at in range(5_000)))
    before = everything(files)
    program = shutil.which("lomrix", path=Path(sys.executable).parent) or "lomrix"
    line = f"ulimit -f 8; exec {program} export big.csv --to '{place}'"
    ended = subprocess.run(["sh", "-c", line], cwd=files, capture_output=True, text=True, timeout=60)
    assert (ended.returncode, "cannot be written" in ended.stderr) == (3, True)
    assert everything(files) == before


def test_the_memory_of_a_plan_keeps_no_names_and_is_closed_to_others(files: Path) -> None:
    (files / "people.csv").write_text("id,name,x\n1,Ann,5\n2,Bo,6\n")
    (files / "k").mkdir()
    steps = (
        '[[steps]]\nname = "all"\ndo = "derive"\nsource = "people.csv"\nexpressions = ["y = x + 1"]\n'
        '[[steps]]\nname = "safe"\ndo = "deidentify"\nsource = "all"\nid = "id"\nremove = ["name"]\nseed = "k/s"\n'
        'linkage = "k/l.csv"\nout = "o/safe.csv"\n'
        '[[steps]]\nname = "more"\ndo = "derive"\nsource = "a.csv"\nexpressions = ["y = x"]\n'
        '[[steps]]\nname = "last"\ndo = "subset"\nsource = "more"\nout = "o/last.csv"\n'
    )
    (files / "p.toml").write_text(steps)
    lomrix("run", "p.toml", cwd=files)
    kept = list((files / ".lomrix").glob("*.arrow"))
    assert len(kept) == 1 and b"Ann" not in kept[0].read_bytes()
    assert [one.stat().st_mode & 0o077 for one in (files / ".lomrix", *kept)] == [0, 0]
    lomrix("run", "p.toml", cwd=files)  # with the secret that the first run made
    assert "4 unchanged" in lomrix("run", "p.toml", cwd=files)[0]


def test_a_memory_that_cannot_be_written_costs_only_time(files: Path) -> None:
    (files / ".lomrix").write_text("no folder")
    run_plan(files, 'out = "o/o.csv"')
    assert (files / "o" / "o.csv").exists()


def test_a_plan_replaces_the_table_that_it_made(files: Path) -> None:
    for words in ((), ("--fresh",), ("--fresh",)):
        assert "1 of 1 steps done" in run_plan(files, 'out = "sqlite:///o/s.db#t"', 0, *words)
    (files / ".lomrix").rename(files / "elsewhere")
    assert "already exists" in run_plan(files, 'out = "sqlite:///o/s.db#t"', 3)


def test_the_memory_of_a_long_chain_holds_each_task_once(files: Path) -> None:
    steps = ['[[steps]]\nname = "s0"\ndo = "derive"\nsource = "a.csv"\nexpressions = ["y = x"]\n'] + [
        f'[[steps]]\nname = "s{at}"\ndo = "derive"\nsource = "s{at - 1}"\nexpressions = ["y{at} = x"]\n'
        for at in range(1, 30)
    ]
    (files / "p.toml").write_text(
        "".join([*steps, '[[steps]]\nname = "e"\ndo = "export"\nsource = "s29"\nout = "o.csv"\n'])
    )
    lomrix("run", "p.toml", cwd=files)
    made = (files / "o.csv.resource.json").read_bytes()
    assert len(list((files / ".lomrix").glob("*.task"))) == 30
    (files / "o.csv").unlink()
    assert "1 of 31 steps done" in lomrix("run", "p.toml", cwd=files)[0]
    assert (files / "o.csv.resource.json").read_bytes() == made
    next((files / ".lomrix").glob("*.task")).write_text("{}")
    (files / "o.csv").unlink()
    lomrix("run", "p.toml", cwd=files)
    assert (files / "o.csv.resource.json").read_bytes() == made


def test_a_plan_refuses_files_whose_names_are_not_text(files: Path) -> None:
    (files / "raw").mkdir()
    Path(os.fsdecode(bytes(files / "raw") + b"/a_\xff.csv")).write_text("id,x\n1,2\n")
    (files / "p.toml").write_text('[[steps]]\nname = "s"\ndo = "stack"\nfrom = "raw/*.csv"\nout = "o/o.csv"\n')
    assert "is not UTF-8" in lomrix("run", "p.toml", cwd=files, status=2)[1]
