"""Lineage: the history of an output, from the histories of its inputs and the task that wrote it."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import lomrix
from lomrix.core.steps.account import Account
from lomrix.core.table.history import NO_HISTORY, extend_history
from lomrix.core.table.table import Table
from lomrix.core.wording import to_utf8
from lomrix.files.database.reference import get_folder, is_database, make_relative
from lomrix.files.object_store import is_object
from lomrix.job.task import TABLE, Task

# Prefix of references to tables in memory; the name of their step follows.
STEP_PREFIX = "step:"
HIDDEN_ORIGIN = "Earlier tasks are left out because they identify people."


@dataclass(frozen=True)
class UsedFile:
    """A file that a task read; `table` is None where it holds no table."""

    role: str
    reference: str
    fingerprint: str
    table: Table | None = None


def add_history(
    table: Table, task: Task, account: Account, used: Sequence[UsedFile], extras: Mapping[str, str]
) -> Table:
    """Add the task that made a table to its history."""
    is_hidden = task.step.hides_origin  # its paths name people's files
    entry: dict[str, object] = {"do": task.step.word, "settings": task.step.to_dict(), "version": lomrix.__version__}
    if is_hidden:
        entry["begins"] = HIDDEN_ORIGIN
    else:
        folder = get_output_folder(task.outputs.get(TABLE, ""))
        entry["inputs"] = [describe_input(used_file, folder) for used_file in used]
        table_output = (
            [{"role": TABLE, "path": to_relative(task.outputs[TABLE], folder)}] if TABLE in task.outputs else []
        )
        entry["outputs"] = [
            *table_output,
            *(
                {"role": name, "path": to_relative(task.outputs[name], folder), "hash": fingerprint}
                for name, fingerprint in extras.items()
            ),
        ]
    reading = task.reading.model_dump(mode="json", exclude_defaults=True, exclude={"dictionary"})
    if reading:
        entry["reading"] = reading
    if task.missing != "empty":
        entry["missing"] = task.missing
    entry |= {
        "rows": len(table),
        "columns": len(table.names),
        "summary": account.summary,
        "balances": [balance.to_json() for balance in account.balances],
    }
    histories = (
        [used_file.table.history for used_file in used if used_file.table is not None]
        if not is_hidden
        else [NO_HISTORY]
    )
    return replace(table, history=extend_history(histories, entry))


def describe_input(used: UsedFile, folder: Path | None) -> dict[str, object]:
    """Describe an input for the history."""
    entry: dict[str, object] = {"role": used.role}
    if used.reference.startswith(STEP_PREFIX):
        # Such a task has no output of its own: its references are relative to the plan's folder.
        entry |= {"step": used.reference.removeprefix(STEP_PREFIX), "seen_from": to_relative(".", folder)}
    else:
        entry |= {"path": to_relative(used.reference, folder), "hash": used.fingerprint}
    if used.table is not None:
        entry["rows"] = len(used.table)
        if used.table.history.last:
            entry["task"] = used.table.history.last
    return entry


def get_output_folder(reference: str) -> Path | None:
    """Return the folder that the references of a history are relative to; None in an object store."""
    if is_object(reference):
        return None
    return get_folder(reference) if is_database(reference) else Path(reference).parent


def to_relative(reference: str, folder: Path | None) -> str:
    """Make a reference relative to a folder; without one, absolute."""
    if reference == "-" or is_object(reference):
        return reference
    if is_database(reference):
        return make_relative(reference, folder or Path())
    path, separator, sheet = reference.partition("#")
    if Path(reference).exists():
        path, separator, sheet = reference, "", ""
    place = os.path.abspath(path) if folder is None else os.path.relpath(path, folder)  # noqa: PTH100
    return to_utf8(Path(place).as_posix() + separator + sheet)
