"""Small tables for tests, written as columns of Python values; None is a blank cell."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from lomrix.core.table.column import Column, Type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table


def column(cells: Sequence[Any]) -> Column:
    """A column whose type is told by its first present cell."""
    first = next((cell for cell in cells if cell is not None), "")
    types: dict[type, Type] = {bool: "boolean", int: "integer", float: "number", str: "string"}
    return Column.of_cells(types[type(first)], cells)


def table(name: str = "table", dictionary: Dictionary | None = None, **cells: Sequence[Any]) -> Table:
    return Table({key: column(values) for key, values in cells.items()}, dictionary or Dictionary(), (), name)


def rows(made: Table) -> list[tuple[Any, ...]]:
    return list(zip(*(made[name].cells() for name in made.names), strict=True))


def reasons(made: Column) -> list[str | None]:
    import numpy as np

    return made.reason_cells(np.arange(len(made)))


def lomrix(*words: str | Path, cwd: Path, status: int = 0, env: Mapping[str, str] | None = None) -> tuple[str, str]:
    """Run the installed program; returns what it said on both streams."""
    import os

    program = Path(sys.executable).parent / "lomrix"
    done = subprocess.run(
        [str(program), *map(str, words)],
        cwd=cwd,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, **(env or {})},
    )
    assert done.returncode == status, f"exit status {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done.stdout, done.stderr
