"""Too little memory: one plain error, status 3, and nothing half written, whatever it was that got none."""

from __future__ import annotations

import resource
import select
import subprocess
import sys
from pathlib import Path

import pytest

from lomrix.job.memory import CurrentStage, OutOfMemoryError, find_requested_size, is_out_of_memory, watch_memory

ENDS = "import os, signal; from lomrix.cli.supervision import supervise; print(supervise(lambda: {}))"


def limited(folder: Path, megabytes: int, *words: str) -> subprocess.CompletedProcess[str]:
    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_AS, (megabytes * 1_000_000,) * 2)

    program = [sys.executable, "-m", "lomrix", *words]
    return subprocess.run(program, cwd=folder, capture_output=True, text=True, preexec_fn=limit, timeout=60)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A file of twenty megabytes, and one that already exists."""
    folder = tmp_path_factory.mktemp("memory")
    block = "".join(f"{at},{at % 7},{at * 37 % 1000 / 8},crew {at // 4}\n" for at in range(100_000))
    (folder / "big.csv").write_text("id,month,x,name\n" + block * 10)
    (folder / "out.csv").write_text("old\n1\n")
    return folder


@pytest.mark.parametrize("megabytes", [60, 200, 350, 550, 640])
def test_too_little_memory_is_one_plain_error(folder: Path, megabytes: int) -> None:
    ended = limited(folder, megabytes, "export", "big.csv", "--to", "out.csv", "--overwrite")
    output = ended.stderr.splitlines()
    assert (ended.returncode, ended.stdout, "Traceback" in ended.stderr) == (3, "", False)
    assert output[0].startswith("error  There is not enough memory")
    assert output[-1].startswith(("next   Close other programs", "next   Allow more with --memory SIZE"))
    assert {one.name for one in folder.iterdir()} == {"big.csv", "out.csv"}
    assert (folder / "out.csv").read_text() == "old\n1\n"


def test_the_error_names_what_was_read_and_what_it_needed(folder: Path) -> None:
    doing = CurrentStage(lambda words, share=0.0: None)
    with pytest.raises(OutOfMemoryError) as stopped, watch_memory(doing, lambda: [folder / "out.csv"]):
        doing("reading out")
        raise MemoryError("malloc of size 536870912 failed")
    assert stopped.value.what == "There is not enough memory for reading out. Nothing was written."
    assert stopped.value.where.startswith("out.csv has 0.1 MB on disk; ")
    assert stopped.value.where.endswith(" of memory in use, 536.9 MB more was needed")


def test_what_was_being_done_is_reported_of_a_process_that_is_gone() -> None:
    work = "[__import__('lomrix.cli.supervision').cli.supervision.report_stage('reading a'), os.abort()]"
    ended = subprocess.run([sys.executable, "-c", ENDS.format(work)], capture_output=True, text=True, timeout=60)
    assert "where  reading a; Aborted" in ended.stderr


@pytest.mark.parametrize(
    ("work", "status", "words"),
    [
        ("7", "7", ""),
        ("os.abort()", "3", "A library that reads files crashed"),
        ("os.kill(os.getpid(), signal.SIGSEGV)", "3", "Segmentation fault"),
        ("os.kill(os.getpid(), signal.SIGKILL)", "3", "There is not enough memory"),
        ("[os.write(2, b'malloc: Out of memory'), os.abort()]", "3", "There is not enough memory"),
    ],
)
def test_a_process_that_a_library_ends_is_reported(work: str, status: str, words: str) -> None:
    ended = subprocess.run([sys.executable, "-c", ENDS.format(work)], capture_output=True, text=True, timeout=60)
    assert (ended.returncode, ended.stdout) == (0, f"{status}\n")
    assert words in ended.stderr


def test_what_is_at_work_ends_with_the_one_that_watches() -> None:
    work = "[print('works', flush=True), signal.alarm(20), signal.pause()]"
    watching = subprocess.Popen([sys.executable, "-c", ENDS.format(work)], stdout=subprocess.PIPE, text=True)
    assert watching.stdout is not None
    assert watching.stdout.readline() == "works\n"
    watching.kill()
    # The pipe is closed only when both are gone.
    assert select.select([watching.stdout], [], [], 10)[0]
    assert watching.stdout.read() == ""


def test_a_cause_is_looked_for_behind_an_error() -> None:
    error = ValueError("cannot be read")
    error.__cause__ = MemoryError("realloc of size 536870912 failed")
    error.__cause__.__cause__ = error
    assert (is_out_of_memory(error), find_requested_size(error), is_out_of_memory(ValueError("memory"))) == (
        True,
        536_870_912,
        False,
    )
