"""The documents say what is true: their commands run, and the reference is that of the program."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import pytest

from lomrix.cli.reference import manual, markdown
from tests.tables import lomrix

DOCS = Path(__file__).parent.parent / "docs"
# Commands whose exit status tells that something was found.
FINDS = ("check", "changes")


def commands(text: str) -> list[list[str]]:
    joined = text.replace("\\\n", " ")
    return [shlex.split(line.strip())[1:] for line in re.findall(r"^    (lomrix .*)$", joined, re.M)]


def test_every_recipe_runs_in_its_order(tmp_path: Path) -> None:
    lomrix("demo", "demo", cwd=tmp_path)
    demo = tmp_path / "demo"
    (demo / "out").mkdir()
    (demo / "keys").mkdir()
    found = commands((DOCS / "recipes.md").read_text())
    assert len(found) >= 40
    for words in found:
        lomrix(*words, cwd=demo, status=1 if words[0] in FINDS else 0)


@pytest.mark.parametrize(("name", "made"), [("commands.md", markdown), ("lomrix.1", manual)])
def test_the_reference_is_that_of_the_program(name: str, made: object) -> None:
    assert callable(made)
    assert (DOCS / name).read_text() == made(), "say: make docs"
