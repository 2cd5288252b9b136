"""Outputs: checked together, staged together, committed together; inputs are never changed."""

from __future__ import annotations

import json
import os
import re
import signal
import stat
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from lomrix.files import staging
from lomrix.files.hashing import hash_file
from lomrix.files.staging import make_part
from tests.tables import installed, lomrix

KEY = ["--key", "id"]


@pytest.fixture
def files(tmp_path: Path) -> Path:
    (tmp_path / "base.csv").write_text("id,x\n01,1\n02,2\n03,3\n")
    (tmp_path / "more.csv").write_text("id,y\n01,5\n3,7\n09,\n")
    (tmp_path / "k").mkdir()
    return tmp_path


def everything(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (["merge", "base.csv", "more.csv", *KEY, "--out", "u.csv", "--unmatched", "u.csv"], "written twice"),
        (["merge", "base.csv", "more.csv", *KEY, "--out", "u.csv", "--unmatched", "k/../u.csv"], "written twice"),
        (["merge", "base.csv", "more.csv", *KEY, "--out", "u.csv", "--unmatched", "u.csv.resource.json"], ".csv file"),
        (["merge", "base.csv", "more.csv", *KEY, "--unmatched", "base.csv", "--overwrite"], "is an input"),
        (["merge", "base.csv", "more.csv", *KEY, "--out", "linked.csv", "--overwrite"], "is an input"),
        (["subset", "base.csv", "-d", "d.toml", "--out", "d.toml", "--overwrite"], "no extension"),
        (["recode", "base.csv", "--map-file", "map.csv", "--out", "map.csv", "--overwrite"], "is an input"),
        (["correct", "base.csv", "--ledger", "map.csv", "--out", "./map.csv", "--overwrite"], "is an input"),
        (
            ["deidentify", "base.csv", "--id", "id", "--seed", "k/s", "--linkage", "s.csv", "--out", "s.csv",
             "--same-folder"],
            "written twice",
        ),
        (
            ["deidentify", "base.csv", "--id", "id", "--seed", "k/s.csv", "--linkage", "k/s.csv", "--out", "o.csv"],
            "written twice",
        ),
        (["deidentify", "base.csv", "--id", "id", "--seed", "k/s", "--linkage", "l.csv", "--out", "-"], "cannot go to"),
    ],
)  # fmt: skip
def test_outputs_that_clash_are_refused_before_any_work(files: Path, words: list[str], expected: str) -> None:
    (files / "d.toml").write_text('[variables.x]\nlabel = "X"\n')
    (files / "map.csv").write_text("variable,old,new\nx,1,2\n")
    (files / "linked.csv").symlink_to("base.csv")
    before = everything(files)
    _, error = lomrix(*words, cwd=files, status=2)
    assert expected in error
    assert everything(files) == before


def test_every_output_is_checked_before_the_first_is_written(files: Path) -> None:
    (files / "there.csv").write_text("mine")
    before = everything(files)
    for out, unmatched, status in (("a.csv", "there.csv", 3), ("no/a.csv", "u.csv", 3), ("a.doc", "u.csv", 2)):
        words = ["merge", "base.csv", "more.csv", *KEY, "--out", out, "--unmatched", unmatched]
        lomrix(*words, cwd=files, status=status)
        assert everything(files) == before


def test_an_extra_without_the_table_is_an_output_and_the_ending_reports_so(files: Path) -> None:
    out, _ = lomrix("merge", "base.csv", "more.csv", *KEY, "--unmatched", "u.csv", cwd=files)
    assert "written  u.csv  (4 rows" in out
    assert "The table was not written. Add --out FILE" in out
    assert "Nothing was written" not in out
    assert (files / "u.csv").read_text().splitlines()[1] == "base,02,1,3,,,"


def test_a_rehearsal_of_deidentify_leaves_nothing(files: Path) -> None:
    before = everything(files)
    words = ["deidentify", "base.csv", "--id", "id", "--seed", "k/s", "--linkage", "k/l.csv"]
    out, _ = lomrix(*words, cwd=files)
    assert "Nothing was written" in out
    assert everything(files) == before


def test_replacing_keeps_permissions_and_links(files: Path) -> None:
    lomrix("subset", "base.csv", "--out", "o.csv", cwd=files)
    (files / "o.csv").chmod(0o600)
    (files / "link.csv").symlink_to("o.csv")
    lomrix("subset", "base.csv", "--where", "x > 1", "--out", "link.csv", "--overwrite", cwd=files)
    assert (files / "link.csv").is_symlink()
    assert (files / "o.csv").read_text() == "id,x\n02,2\n03,3\n"
    assert stat.S_IMODE((files / "o.csv").stat().st_mode) == 0o600


def test_each_file_keeps_its_own_descriptor_and_the_old_form_is_read(files: Path) -> None:
    (files / "d.toml").write_text('[variables.x]\nlabel = "A measure"\n')
    lomrix("subset", "base.csv", "-d", "d.toml", "--out", "crew.csv", cwd=files)
    lomrix("subset", "base.csv", "--columns", "id", "--out", "crew.xlsx", cwd=files)
    assert "A measure" in lomrix("dictionary", "show", "crew.csv", cwd=files)[0]
    (files / "crew.csv.resource.json").rename(files / "crew.resource.json")
    assert "A measure" in lomrix("dictionary", "show", "crew.csv", cwd=files)[0]


SLOW_COMMIT = """
import os, sys
from pathlib import Path
from lomrix.files import staging
place = Path.replace
left = int(sys.argv[1])
def replace(part, target):
    global left
    if left == 0:
        os.kill(os.getpid(), 9)
    left -= 1
    return place(part, target)
staging.Path.replace = replace
sys.argv = ["lomrix", *sys.argv[2:]]
from lomrix.cli.main import main
main()
"""


@pytest.mark.parametrize("renames", [0, 1, 2])
def test_a_kill_at_any_timestamp_of_the_commit_is_noticed(files: Path, renames: int) -> None:
    (files / "x.csv").write_text("id,x\n1,-9\n2,5\n")
    (files / "d.toml").write_text('[variables.x]\nmissing = { "-9" = "refused", "5" = "gone" }\n')
    lomrix("merge", "x.csv", "base.csv", *KEY, "--overlap", "both", "-d", "d.toml", "--out", "o.csv", cwd=files)
    (files / "y.csv").write_text("id,x\n1,7\n2,8\n")
    words = ["merge", "y.csv", "base.csv", *KEY, "--overlap", "both", "-d", "d.toml", "--out", "o.csv", "--overwrite"]
    subprocess.run([sys.executable, "-c", SLOW_COMMIT, str(renames), *words], cwd=files, check=False)
    data = (files / "o.csv").read_text().splitlines()[1]
    output = json.loads((files / "o.csv.resource.json").read_text())["hash"]
    belongs = output == hash_file(files / "o.csv")
    # The descriptor goes first: the old pair, a pair that does not belong together, the new pair.
    assert (data.split(",")[1] == "7", belongs) == [(False, True), (False, False), (True, True)][renames]
    out, _ = lomrix("profile", "o.csv", "--json", cwd=files)
    kinds = [note["kind"] for note in json.loads(out)["notes"]]
    assert ("changed" in kinds) == (not belongs)
    # What the dead run left is taken away by the next one.
    lomrix(*words, cwd=files)
    assert not list(files.glob(".*.part"))


def test_parts_of_a_run_that_is_alive_are_left_alone(tmp_path: Path) -> None:
    part = make_part(tmp_path / "o.csv")
    dead = tmp_path / ".o.csv.4194399-0a1b2c3d.part"
    dead.touch()
    make_part(tmp_path / "o.csv")
    assert part.exists()
    assert not dead.exists()


def wait_until_it_listens(process: int) -> None:
    """Wait until a process has a handler of its own for the request to end."""
    for _ in range(400):
        output = Path(f"/proc/{process}/status").read_text()
        if int(re.search(r"SigCgt:\s*(\w+)", output)[1], 16) >> (signal.SIGTERM - 1) & 1:  # type: ignore[index]
            return
        time.sleep(0.05)
    raise AssertionError("it never listens")


def test_a_request_to_end_leaves_nothing_behind(files: Path) -> None:
    program = Path(sys.executable).parent / "lomrix"
    os.mkfifo(files / "slow")
    words = f"exec {program} subset - --out o.csv < slow"
    process = subprocess.Popen(["sh", "-c", words], cwd=files, stderr=subprocess.PIPE, text=True)
    with (files / "slow").open("w") as fifo:
        fifo.write("id,x\n1,2\n")
        fifo.flush()
        time.sleep(1.0)
        process.send_signal(signal.SIGTERM)
        assert process.wait(20) == 130
        assert process.stderr is not None
        assert process.stderr.read() == "interrupted; unfinished outputs were not written\n"
    assert sorted(path.name for path in files.iterdir()) == ["base.csv", "k", "more.csv", "slow"]


LOST, DATA_LOST = "error  Standard output cannot be written.", "error  standard output cannot be written."


STREAMS = [
    ("subset base.csv --out - > /dev/full", 3, DATA_LOST),
    ("subset base.csv --out o.csv > /dev/full", 3, LOST),
    ("subset base.csv --json > /dev/full", 3, LOST),
    ("subset none.csv --json > /dev/full", 3, LOST),
    ("--help > /dev/full", 3, LOST),
    ("nothing --json > /dev/full", 3, LOST),
    ("subset base.csv >&-", 3, LOST),
    ("subset base.csv --out - >&-", 3, DATA_LOST),
    ("subset base.csv --quiet --out o.csv >&- 2>&-", 0, ""),
    ("subset none.csv 2>&-", 3, ""),
    ("subset none.csv 2> /dev/full", 3, ""),
    ("profile - <&-", 3, "error  input.csv is empty."),
]
PIPES = ["subset base.csv --out o.csv", "subset base.csv --out - --quiet", "--help"]


@pytest.mark.parametrize(
    ("words", "status", "expected", "unbuffered"),
    [
        *[(*one, "") for one in STREAMS],
        (*STREAMS[2], "1"),
        *[(f"{words} | true; exit ${{PIPESTATUS[0]}}", 0, "", "") for words in PIPES],
    ],
)
def test_standard_streams_that_are_full_closed_or_gone(
    files: Path, words: str, status: int, expected: str, unbuffered: str
) -> None:
    done = subprocess.run(
        f"{Path(sys.executable).parent / 'lomrix'} {words}", shell=True, executable="/bin/bash", cwd=files,
        capture_output=True, text=True, check=False, env={**os.environ, "PYTHONUNBUFFERED": unbuffered},
    )  # fmt: skip
    assert (done.returncode, done.stderr.split("\n")[0]) == (status, expected)
    assert done.stderr.count("error") == bool(expected)
    assert (files / "o.csv").exists() == ("o.csv" in words)


def test_standard_input_behaves_as_a_path_does(files: Path) -> None:
    content = (files / "base.csv").read_bytes()
    named, _ = lomrix("subset", "base.csv", "--columns", "x", "--type", "id=string", "--json", cwd=files)
    streamed, _ = lomrix("subset", "-", "--columns", "x", "--type", "id=string", "--json", cwd=files, stdin=content)
    accounts = [json.loads(one)["account"] for one in (named, streamed)]
    assert accounts[0] == accounts[1]
    _, error = lomrix("merge", "-", "-", *KEY, cwd=files, status=2, stdin=content)
    assert "used twice" in error


def test_an_unexpected_error_has_a_status_of_its_own(files: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from lomrix.core.steps.subset import run as module

    def broken(*_: object) -> None:
        raise ZeroDivisionError("on purpose")

    monkeypatch.setattr(module, "subset", broken)
    _, error = lomrix("subset", "base.csv", cwd=files, status=70)
    assert "ZeroDivisionError: on purpose" in error
    assert "Nothing was written" not in error


def test_the_installed_program(files: Path) -> None:
    out, _ = installed("subset", "base.csv", "--where", "x > 1", "--out", "o.csv", cwd=files)
    assert "2 of 3 rows" in out
    assert "Traceback" not in installed("subset", "base.csv", "--where", "x >", cwd=files, status=2)[1]


def test_files_are_on_the_disk_before_they_are_renamed(files: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    flushed: set[int] = set()
    renamed: list[tuple[str, bool]] = []
    flush, rename, link = os.fsync, Path.replace, os.link

    def watched_flush(number: int) -> None:
        flushed.add(os.fstat(number).st_ino)
        flush(number)

    def watched_rename(part: Path, place: Path) -> Path:
        renamed.append((Path(place).name, part.stat().st_ino in flushed))
        return rename(part, place)

    def watched_link(part: Path, place: Path) -> None:
        renamed.append((Path(place).name, part.stat().st_ino in flushed))
        link(part, place)

    monkeypatch.setattr(os, "fsync", watched_flush)
    monkeypatch.setattr(os, "link", watched_link)
    monkeypatch.setattr(Path, "replace", watched_rename)
    lomrix("merge", "base.csv", "more.csv", *KEY, "--out", "u.csv", "--unmatched", "n.csv", cwd=files)
    assert {name for name, _ in renamed} >= {"u.csv", "u.csv.resource.json", "n.csv"}
    assert all(was_flushed for _, was_flushed in renamed)
    # The descriptor first, so that data never stand beside the descriptor of others without a hash that tells.
    names = [name for name, _ in renamed]
    assert names.index("u.csv.resource.json") < names.index("u.csv")


def test_a_folder_without_permission_is_reported_and_stays_as_it_was() -> None:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "a.csv").write_text("id,x\n1,2\n")
        (folder / "closed").mkdir(mode=0o555)
        folder.chmod(0o755)
        lomrix("export", "a.csv", "--to", "open.csv", cwd=folder)  # loads what the other user may not read
        user = os.geteuid()
        os.seteuid(user or 65534)  # the administrator may write everywhere
        try:
            _, error = lomrix("export", "a.csv", "--to", "closed/a.csv", cwd=folder, status=3)
        finally:
            os.seteuid(user)
        assert "closed/a.csv cannot be written" in error and "Permission denied" in error
        assert not list((folder / "closed").iterdir())


def test_a_file_that_appears_meanwhile_is_replaced_if_that_is_allowed(
    files: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    keep = staging.keep_previous

    def another_writes(path: Path) -> Path | None:
        previous = keep(path)
        if not path.exists():
            path.write_text("of another run")
        return previous

    monkeypatch.setattr(staging, "keep_previous", another_writes)
    lomrix("subset", "base.csv", "--columns", "x", "--out", "o.csv", "--overwrite", cwd=files)
    assert (files / "o.csv").read_text().startswith("x\n")
    assert not list(files.glob(".*"))
