"""Small tables for tests, written as columns of Python values; None is a blank cell."""

from __future__ import annotations

import contextlib
import datetime
import io
import os
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from lomrix.cli.environment import Environment
from lomrix.cli.main import run
from lomrix.core.steps.account import Balance
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.numbers import Type
from lomrix.core.table.table import Table
from lomrix.show.balances import list_parts


def column(cells: Sequence[Any]) -> Column:
    """A column whose type is told by its first present cell."""
    first = next((cell for cell in cells if cell is not None), "")
    types: dict[type, Type] = {
        bool: "boolean", int: "integer", float: "number", str: "string", datetime.date: "date"
    }  # fmt: skip
    return Column.of_cells(types[type(first)], cells)


def table(name: str = "table", dictionary: Dictionary | None = None, **cells: Sequence[Any]) -> Table:
    return Table({key: column(values) for key, values in cells.items()}, dictionary or Dictionary(), name=name)


def rows(made: Table) -> list[tuple[Any, ...]]:
    return list(zip(*(made[name].cells() for name in made.names), strict=True))


def parts_of(balance: Balance) -> dict[str, int]:
    return {words: count for words, count in list_parts(balance) if count}


def reasons(made: Column) -> list[str | None]:
    import numpy as np

    return made.reason_cells(np.arange(len(made)))


def lomrix(
    *words: str | Path,
    cwd: Path,
    status: int | None = 0,
    stdin: bytes = b"",
    width: int | None = None,
    terminal: bool = False,
) -> tuple[str, str]:
    """Run the program in-process, in a folder; returns what it said on both streams. No status: any will do."""
    out, err = Bytes(), io.StringIO()
    around = Environment(
        [*map(str, words)], io.BytesIO(stdin), out.text, err, out.raw, width, terminal, terminal, colour=terminal
    )
    with contextlib.chdir(cwd):
        found = run(around)
    output = out.raw.getvalue().decode()
    assert status in (None, found), f"exit status {found}\n{output}\n{err.getvalue()}"
    return output, err.getvalue()


class Bytes:
    """Standard output as bytes and as text."""

    def __init__(self) -> None:
        self.raw = io.BytesIO()
        self.text = io.TextIOWrapper(self.raw, encoding="utf-8", write_through=True)


def installed(*words: str | Path, cwd: Path, status: int = 0, env: Mapping[str, str] | None = None) -> tuple[str, str]:
    """Run the installed program; returns what it said on both streams."""
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


def sources(*tables: Table) -> Inputs:
    """Tables that a step takes as its sources."""
    return Inputs(source=tables)


def merging(base: Table, *added: Table, links: Table | None = None) -> Inputs:
    return Inputs(base=base, added=added, **({} if links is None else {"links": links}))


def correcting(source: Table, ledger: Table) -> Inputs:
    return Inputs(source=source, ledger=ledger)


def unnaming(source: Table, secret: str = "s") -> Inputs:
    return Inputs(source=source, seed=table("seed", secret=[secret]))
