"""The documents say what is true: their commands run, and the reference is that of the program."""

from __future__ import annotations

import itertools
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from lomrix.cli.main import HELP_FILE
from lomrix.cli.reference import format_help, format_manual, format_markdown
from tests.tables import lomrix

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
# Commands whose exit status tells that something was found.
FINDS = ("check", "changes")
OUTPUTS = re.compile(
    r"--(?:out|to|figure|unmatched|conflicts|linkage|seed|draft-ledger|draft-pairs|left-out|companion|codebook|as-plan|as-commands|as-prov|study)"
)


def shown(text: str) -> list[tuple[list[str], list[str]]]:
    """Each command with the lines of its output that the document shows in a block of text under it."""
    joined = text.replace("\\\n", " ")
    found = re.findall(r"^    (lomrix .*)$(?:\n\n```text\n([^`]*)```)?", joined, re.M)
    return [
        (shlex.split(line.strip(), comments=True)[1:], lines.splitlines()) for line, lines in found if "…" not in line
    ]


def differing(lines: list[str], output: str) -> list[str]:
    """Shown lines that the command did not say in this order."""
    settings = iter([line.rstrip() for line in output.splitlines()])
    return [line for line in lines if line not in settings]


def test_every_recipe_runs_in_its_order_and_reports_what_is_shown(tmp_path: Path) -> None:
    lomrix("demo", "demo", cwd=tmp_path)
    demo = tmp_path / "demo"
    (demo / "out").mkdir()
    (demo / "keys").mkdir()
    found = shown((DOCS / "recipes.md").read_text())
    assert len(found) >= 40
    assert sum(bool(lines) for _, lines in found) >= 30
    wrong: dict[str, object] = {}
    proposed = 0
    for words, lines in found:
        output, error = lomrix(*words, cwd=demo, status=None)
        missed = differing(lines, output + error)
        if missed or error.startswith("error"):
            wrong[" ".join(words)] = (missed, output + error)
        proposed += paste_proposals(output + error, demo, wrong)
    assert not wrong and proposed >= 3, wrong


def finds(words: list[str]) -> bool:
    """Whether the exit status of a command tells that something was found."""
    return words[0] in FINDS or words[:2] == ["dictionary", "changes"]


def paste_proposals(output: str, folder: Path, wrong: dict[str, object]) -> int:
    """Type each command that an output proposes, and take away what it wrote; how many there were."""
    commands = re.findall(r"^(?:next  |      )(?:.*: )?(lomrix .*)$", output, re.M)
    for command in commands:
        words = shlex.split(command)[1:]
        before = set(folder.rglob("*"))
        told, error = lomrix(*words, cwd=folder, status=None)
        if error.startswith("error") or not told:
            wrong[f"pasted: {command}"] = error
        for path in sorted({*folder.rglob("*")} - before, reverse=True):
            path.rmdir() if path.is_dir() else path.unlink()
    return len(commands)


@pytest.fixture(scope="module")
def worked(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo study after the job of examples/kittiwake.sh."""
    folder = tmp_path_factory.mktemp("worked")
    text = (ROOT / "examples" / "kittiwake.sh").read_text().replace("\\\n", " ")
    wrong: dict[str, object] = {}
    proposed = 0
    for line in re.findall(r"^(?:show|refused) .*$", text, re.M):
        kind, *words = shlex.split(line)
        if words[0] == "demo":
            lomrix("demo", "demo", cwd=folder)
            (folder / "demo" / "out").mkdir()
        else:
            output, error = lomrix(*words, cwd=folder / "demo", status=1 if kind == "refused" else 0)
            proposed += paste_proposals(output + error, folder / "demo", wrong)
    assert not wrong and proposed >= 4, wrong
    return folder / "demo"


BESIDE = (".resource.json",)
BESIDE_STEM = (".columns.txt", ".codes.csv", ".layout.csv", ".names.csv", ".reading.txt")
# What only shows how something is typed, with files that the demo does not have.
ILLUSTRATIONS = ("logbook.xlsx", "logbook.csv", "logger.csv", "survey.csv", "wave1.csv", "codebook.xlsx")


def cleared(words: list[str], folder: Path) -> None:
    """Take away what a command is going to write."""
    for name, value in itertools.pairwise(words):
        path = folder / value
        if OUTPUTS.fullmatch(name) and path.suffix != ".j2" and "://" not in value:
            beside = [path.with_name(path.name + end) for end in BESIDE]
            for one in (path, *beside, *(path.with_name(path.stem + end) for end in BESIDE_STEM)):
                one.unlink(missing_ok=True) if not one.is_dir() else shutil.rmtree(one)
            path.parent.mkdir(exist_ok=True)


def test_the_commands_of_readme_and_guide_run(worked: Path, tmp_path: Path) -> None:
    failed = []
    for name in ("README.md", "docs/guide.md"):
        folder = tmp_path / Path(name).stem
        shutil.copytree(worked, folder)
        for database in folder.rglob("*.db"):
            database.unlink()
        failed += run_commands(name, folder)
    assert not failed, "\n".join(failed)


def run_commands(name: str, folder: Path) -> list[str]:
    failed = []
    for words, lines in shown((ROOT / name).read_text()):
        if not set(words) & set(ILLUSTRATIONS):
            cleared(words, folder)
            output, error = lomrix(*words, cwd=folder, status=None)
            fine = finds(words) or not error.startswith("error")
            failed += [] if fine else [f"{' '.join(words)}\n{error}"]
            failed += [f"{' '.join(words)}\nshown, not said: {line}" for line in differing(lines, output + error)]
    return failed


@pytest.mark.parametrize(("name", "made"), [("commands.md", format_markdown), ("lomrix.1", format_manual)])
def test_the_reference_is_that_of_the_program(name: str, made: object) -> None:
    assert callable(made)
    assert (DOCS / name).read_text() == made(), "say: make docs"


def test_the_help_that_is_kept_is_that_of_the_program() -> None:
    assert HELP_FILE.read_text(encoding="utf-8") == format_help(), "say: make docs"


EXAMPLE = re.compile(r"```sh\nprintf ([^\n]*) \| (lomrix [^\n]*)\n```\n\n```text\n(.*?)\n```", re.S)


def test_every_number_is_computed_as_is_reported(tmp_path: Path) -> None:
    text = (DOCS / "numbers.md").read_text()
    found = EXAMPLE.findall(text)
    assert len(found) == text.count("```sh") >= 15
    wrong = {}
    for given, command, output in found:
        data = shlex.split(given)[0].replace("\\n", "\n").encode()
        settings, error = lomrix(*shlex.split(command)[1:], cwd=tmp_path, stdin=data)
        if settings.rstrip() != output or error:
            wrong[command] = settings + error
    assert not wrong, wrong


def test_the_help_of_a_command_loads_nothing_large() -> None:
    code = "import sys; from lomrix.cli.main import *; run(Environment.from_process()); print(*sorted(sys.modules))"
    done = subprocess.run([sys.executable, "-c", code, "merge", "--help"], capture_output=True, text=True, check=True)
    assert "  -k, --key COLUMN" in done.stdout
    assert not {"pydantic", "numpy", "pyarrow"} & set(done.stdout.splitlines()[-1].split())
