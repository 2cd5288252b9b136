"""Templates: a team's own, and the two that come with Lomrix, filled in by a process of their own."""

from __future__ import annotations

import importlib.resources
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError
from lomrix.files.staging import guarded

# So long a template may take.
SECONDS = 10
DOCUMENTED = "docs/formats.md lists what a template can name."


def own_template(name: str) -> str:
    """The text of a template that comes with Lomrix."""
    return (importlib.resources.files("lomrix.files.companions") / "templates" / name).read_text(encoding="utf-8")


def template_of(path: Path) -> str:
    """The text of a team's template.

    Raises
    ------
    FileError
        Where it cannot be read, or is no UTF-8.
    """
    raw: bytes = guarded(path, "read", path.read_bytes)
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise FileError(f"The template {path.name} is not UTF-8.", todo="Save it as UTF-8.") from error


def filled_in(template: str, name: str, facts: dict[str, Any]) -> str:
    """A template with the facts of a delivery in it.

    Raises
    ------
    FileError
        Where it cannot be understood, names what there is not, or does not come to an end.
    """
    told = json.dumps({"template": template, "name": name, "facts": facts, "seconds": SECONDS})
    command = [sys.executable, "-I", "-m", "lomrix.files.companions.rendering"]
    try:
        done = subprocess.run(command, input=told, capture_output=True, text=True, timeout=3 * SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise endless(name) from error
    if done.returncode < 0:
        raise endless(name)
    if done.returncode:
        last = (done.stderr.strip().splitlines() or ["no reason was told"])[-1]
        raise FileError(f"The template {name} cannot be filled in.", where=last, todo=DOCUMENTED)
    answer = json.loads(done.stdout)
    if "text" in answer:
        return str(answer["text"])
    line = f"line {answer['line']}: " if answer.get("line") else ""
    raise FileError(f"The template {name} cannot be filled in.", where=f"{line}{answer['error']}", todo=DOCUMENTED)


def endless(name: str) -> FileError:
    """The error of a template that is not done in time."""
    return FileError(
        f"The template {name} was not filled in within {SECONDS} seconds.", todo="Look for a loop that never ends."
    )
