"""What a person sees in a terminal, from the first line to the last; ␛ is the character that begins a colour.

The expected output is in `transcripts.txt`; `make expected` rewrites it.
"""

from __future__ import annotations

import shlex
from pathlib import Path

import pytest

from tests.core.steps.test_whole_accounts import read_sections
from tests.tables import lomrix

EXPECTED = Path(__file__).with_name("transcripts.txt")


def happening(title: str, folder: Path) -> list[str]:
    """What a command shows in a window of some width, which its title begins with."""
    width, *words = shlex.split(title)
    output, error = lomrix(*words, cwd=folder, status=None, width=int(width), terminal=True)
    lines = (output + error).replace("\x1b", "␛").splitlines()
    return [f"{line[:-1]}␣" if line.endswith(" ") else line or "␣" for line in lines]


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("transcripts")
    lomrix("demo", "demo", cwd=folder)
    return folder / "demo"


@pytest.mark.parametrize("title", read_sections(EXPECTED))
def test_what_a_terminal_shows(demo: Path, title: str) -> None:
    assert happening(title, demo) == read_sections(EXPECTED)[title]


def test_a_command_to_paste_is_one_line(demo: Path) -> None:
    lines = happening("60 check roster.csv --key crew_id -d dictionary.toml", demo)
    assert lines[-1].endswith(" --key crew_id --dictionary dictionary.toml --draft-ledger ledger.csv")
    assert "next" in lines[-1]
