"""Templates: a team's own, and the two that come with Lomrix, rendered in a separate process."""

from __future__ import annotations

import importlib.resources
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError
from lomrix.files.staging import guard

# Time limit for a template.
SECONDS = 10
DOCUMENTED = "docs/formats.md lists what a template can name."


def load_template(name: str) -> str:
    """Return the text of a template that comes with Lomrix."""
    return (importlib.resources.files("lomrix.files.companions") / "templates" / name).read_text(encoding="utf-8")


def read_template(path: Path) -> str:
    """Return the text of a team's template.

    Raises FileError if it cannot be read, or is not UTF-8.
    """
    raw: bytes = guard(path, "read", path.read_bytes)
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise FileError(f"The template {path.name} is not UTF-8.", todo="Save it as UTF-8.") from error


def render(template: str, name: str, facts: dict[str, Any]) -> str:
    """Render a template with the facts of a delivery.

    Raises FileError if it is not valid, uses unknown names, or does not end.
    """
    request = json.dumps({"template": template, "name": name, "facts": facts, "seconds": SECONDS})
    command = [sys.executable, "-I", "-m", "lomrix.files.companions.rendering"]
    try:
        process = subprocess.run(
            command, input=request, capture_output=True, text=True, timeout=3 * SECONDS, check=False
        )
    except subprocess.TimeoutExpired as error:
        raise make_timeout_error(name) from error
    if process.returncode < 0:
        raise make_timeout_error(name)
    if process.returncode:
        reason = (process.stderr.strip().splitlines() or ["no reason given"])[-1]
        raise FileError(f"The template {name} cannot be rendered.", where=reason, todo=DOCUMENTED)
    answer = json.loads(process.stdout)
    if "text" in answer:
        return str(answer["text"])
    line = f"line {answer['line']}: " if answer.get("line") else ""
    raise FileError(f"The template {name} cannot be rendered.", where=f"{line}{answer['error']}", todo=DOCUMENTED)


def make_timeout_error(name: str) -> FileError:
    """Make the error for a template that does not end in time."""
    return FileError(
        f"The template {name} was not rendered within {SECONDS} seconds.", todo="Look for a loop that never ends."
    )
