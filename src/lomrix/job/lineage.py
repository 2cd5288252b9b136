"""Lineage: the history of an output, from the histories of its inputs and the task that made it."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import lomrix
from lomrix.core.steps.account import Account
from lomrix.core.table.history import NO_HISTORY, extended
from lomrix.core.table.table import Table
from lomrix.core.wording import in_utf8
from lomrix.files.database.reference import database_folder, is_database, seen_from
from lomrix.job.task import TABLE, Task

# What the reference to a table in memory begins with: the name of the step that made it follows.
STEP = "step:"
HIDDEN = "What came before is left behind, since it names people."


@dataclass(frozen=True)
class Used:
    """A file that went into a task.

    Parameters
    ----------
    role
        What it was for.
    reference
        As it was named.
    fingerprint
        Its hash.
    table
        What was read of it; None for a file that is no table.
    """

    role: str
    reference: str
    fingerprint: str
    table: Table | None = None


def with_history(table: Table, task: Task, account: Account, used: Sequence[Used], extras: Mapping[str, str]) -> Table:
    """A table with the task that made it added to its history.

    Parameters
    ----------
    table
        The task's table.
    task, account
        What was asked for, and what was done.
    used
        Every file that went in.
    extras
        By name, the fingerprint of each further file that came out.
    """
    hides = task.step.hides_origin  # its paths name people's files
    entry: dict[str, object] = {"do": task.step.word, "settings": task.step.said(), "version": lomrix.__version__}
    if hides:
        entry["begins"] = HIDDEN
    else:
        folder = folder_of(task.outputs.get(TABLE, ""))
        entry["inputs"] = [input_entry(one, folder) for one in used]
        own = [{"role": TABLE, "path": relative(task.outputs[TABLE], folder)}] if TABLE in task.outputs else []
        entry["outputs"] = [
            *own,
            *(
                {"role": name, "path": relative(task.outputs[name], folder), "hash": fingerprint}
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
    histories = [one.table.history for one in used if one.table is not None] if not hides else [NO_HISTORY]
    return replace(table, history=extended(histories, entry))


def input_entry(used: Used, folder: Path) -> dict[str, object]:
    """One input as the history tells of it."""
    entry: dict[str, object] = {"role": used.role}
    if used.reference.startswith(STEP):
        # Such a task has no output of its own: its references are seen from where the plan stands.
        entry |= {"step": used.reference.removeprefix(STEP), "seen_from": relative(".", folder)}
    else:
        entry |= {"path": relative(used.reference, folder), "hash": used.fingerprint}
    if used.table is not None:
        entry["rows"] = len(used.table)
        if used.table.history.last:
            entry["task"] = used.table.history.last
    return entry


def folder_of(reference: str) -> Path:
    """The folder from which the references of a history are seen: that of the output."""
    return database_folder(reference) if is_database(reference) else Path(reference).parent


def relative(reference: str, folder: Path) -> str:
    """A reference as it is seen from the folder of the output."""
    if reference == "-":
        return reference
    if is_database(reference):
        return seen_from(reference, folder)
    head, sign, sheet = reference.partition("#")
    if Path(reference).exists():
        head, sign, sheet = reference, "", ""
    return in_utf8(Path(os.path.relpath(head, folder)).as_posix() + sign + sheet)
