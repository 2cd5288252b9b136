"""What steps report and make, from the first line to the last, of tables small enough to be worked out by hand.

The expected output is in `expected/`, a file for each step and a section for each scene and refusal; a space at the end
of a line is ␣. `make expected` rewrites the files.
"""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.steps.account import Account
from lomrix.core.steps.registry import find_entry
from lomrix.core.steps.step import Inputs, Result, Step
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.show.balances import format_total, list_parts
from tests.core.steps.scenes import SCENES

EXPECTED = Path(__file__).with_name("expected")


def output(result: Result, inputs: Inputs) -> list[str]:
    """A result as lines: the account with all its numbers, then the table with its dictionary, then the extras."""
    lines = account_reported(result.account)
    for part in result.account.parts:
        lines += ["  " + line for line in account_reported(part) if line not in lines]
    if result.shown:
        lines.append(f"shown: {', '.join(result.shown)}")
    lines += ["table: as it was"] if any(result.table.same_as(one) for one in inputs) else table_reported(result.table)
    extras: dict[tuple[str, ...], list[str]] = {}
    for name, extra in result.extras.items():
        reported = table_reported(extra) if isinstance(extra, Table) else [value_reported(extra)]
        extras.setdefault(tuple(reported), []).append(name)
    for (first, *others), names in extras.items():
        lines += [f"extra {', '.join(names)}: {first}", *others]
    return lines


def account_reported(account: Account) -> list[str]:
    """An account as lines, without its facts."""
    lines = [account.summary]
    for balance in account.balances:
        parts = " + ".join(f"{count} {words}" for words, count in list_parts(balance))
        lines.append(f"{'(quiet) ' if balance.quiet else ''}{format_total(balance)}: {balance.total} = {parts}")
    for listing in account.listings:
        lines.append(f"[{listing.title}] {' | '.join(listing.columns)}")
        lines += ["  " + " | ".join(map(str, row)) for row in listing.rows]
    for note in account.notes:
        mark = "." if note.done else "!"
        lines.append(f"{mark} {note.kind}, {note.column}: {note.text} ({note.count}) {list(note.examples)}")
    return lines + [f"next: {one}" for one in account.advice]


def value_reported(value: object) -> str:
    """What else a step gives, such as the data of a figure, in one line."""
    if isinstance(value, np.ndarray):
        return f"[{', '.join(value_reported(one) for one in value.tolist())}]"
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, dict):
        return f"{{{', '.join(f'{key}: {value_reported(one)}' for key, one in value.items())}}}"
    if isinstance(value, Column):
        return f"[{', '.join(map(str, value.cells()))}]"
    if isinstance(value, Table):
        return value_reported(dict(value.columns))
    if dataclasses.is_dataclass(value) and not isinstance(value, Table | Dictionary):
        reported_fields = (
            f"{one.name}={value_reported(getattr(value, one.name))}" for one in dataclasses.fields(value)
        )
        return f"({', '.join(reported_fields)})"
    if isinstance(value, list | tuple):
        return f"({', '.join(map(value_reported, value))})"
    return str(value) if isinstance(value, str | int | None) else type(value).__name__


def table_reported(made: Table) -> list[str]:
    """A table, column by column or row by row, whichever is shorter, and its dictionary entries."""
    columns = []
    for name, own in made.columns.items():
        reasons = own.reason_cells(range(len(own)))  # type: ignore[arg-type]
        texts = own.to_text().to_pylist()
        cells = [str(text) if reason is None else f"‹{reason}›" for text, reason in zip(texts, reasons, strict=True)]
        settings = made.dictionary.of(name).model_dump(exclude_defaults=True)
        columns.append([f"{name} ({own.type})" + (f" {settings}" if settings else ""), *cells])
    if len(made) + 1 < len(columns):
        lines = [f"  {' | '.join(cells)}" for cells in zip(*columns, strict=True)]
    else:
        lines = [f"  {title}: {', '.join(cells)}" for title, *cells in columns]
    codes = [f"  codes {name}: {dict(labels)}" for name, labels in made.dictionary.codes.items()]
    return [f"table {made.name}, first row {made.first_row}", *lines, *codes]


Apply = Callable[[Step, Inputs, list[str]], Result]


def happening(word: str, inputs: Inputs, settings: dict[str, Any], apply: Apply = Step.apply) -> list[str]:
    """What comes of a scene: a result, or an error."""
    entry = find_entry(word)
    assert entry is not None
    try:
        step = entry.load()(**settings)
        lines = output(apply(step, inputs, [extra.name for extra in step.gives]), inputs)
    except LomrixError as error:
        given = {
            "where": error.where,
            "next": error.todo,
            "columns": ", ".join(error.columns),
            "setting": error.setting,
        }
        lines = [
            f"error {error.exit_status}: {error.what}",
            *(f"{name}: {value}" for name, value in given.items() if value),
        ]
        if error.proposal is not None:
            lines.append(f"proposed: {error.proposal.do} {dict(error.proposal.settings)}")
    return [line[:-1] + "␣" if line.endswith(" ") else line for text in lines for line in text.split("\n")]


def sections(word: str) -> dict[str, list[str]]:
    """The sections of a step's file, by the names of their scenes."""
    return read_sections(EXPECTED / f"{word}.txt")


@functools.cache
def read_sections(path: Path) -> dict[str, list[str]]:
    """The sections of a file, by their titles."""
    found: dict[str, list[str]] = {}
    lines: list[str] = []
    for line in path.read_text().splitlines():
        if line.startswith("## "):
            title, _, only = line.removeprefix("## ").partition(" → ")
            lines = found.setdefault(title, [only] if only else [])
        elif line:
            lines.append(line)
    return found


@pytest.mark.parametrize("scene", SCENES)
def test_what_a_step_reports_and_makes(scene: str) -> None:
    word, inputs, settings = SCENES[scene]
    assert happening(word, inputs, settings) == sections(word)[scene]
