"""The command `history`: how a file was made, back to its raw files."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from lomrix.cli.command import handle_errors, make_reporter, set_signature
from lomrix.cli.main import OtherCommand
from lomrix.cli.options import list_reporting, list_writing, make_parameter
from lomrix.cli.reporting import Reporter
from lomrix.cli.wording import format_option, list_options, quote_word
from lomrix.core.errors import FileError, UsageError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.notes import Note
    from lomrix.plan.from_history import PastTask

UNCHANGED, CHANGED, MISSING = "unchanged", "changed", "missing"


def make_command(other: OtherCommand) -> Any:
    """Make the command."""
    from lomrix.cli.main import make_command as made

    return made(make_function(), other.word, other.purpose, other.example)


def make_function() -> Any:
    """Make the function behind the command."""
    outputs = {
        "as_plan": "Write a plan that makes the file again (.toml).",
        "as_commands": "Write the commands that make it again (.sh).",
        "as_prov": "Write its provenance in PROV-JSON, an open standard (.json).",
    }
    parameters = [
        make_parameter("file", str, ..., typer.Argument(metavar="FILE", help="A file that Lomrix wrote.")),
        make_parameter("full", bool, False, typer.Option("--full", help="Show the account of each task.")),
        make_parameter("check", bool, False, typer.Option("--check", help="Check which files have changed since.")),
        *(
            make_parameter(name, str, "", typer.Option(format_option(name), metavar="FILE", help=text))
            for name, text in outputs.items()
        ),
        *list_writing(out=False),
        *list_reporting(),
    ]

    def history(**given: Any) -> None:
        reporter = make_reporter(given)
        with handle_errors(reporter, given["file"]), explain_damage(given["file"]):
            show_history(reporter, given)

    return set_signature(history, "history", parameters)


@contextlib.contextmanager
def explain_damage(file: str) -> Iterator[None]:
    """Turn any failure on a history into a FileError; anybody may have edited its text."""
    try:
        yield
    except (LookupError, TypeError, AttributeError, ValueError, AssertionError, RecursionError) as error:
        if os.environ.get("LOMRIX_DEBUG"):
            raise
        is_too_deep = isinstance(error, RecursionError)
        raise FileError(
            f"The history of {file} {'has too many tasks' if is_too_deep else 'is damaged'}.",
            where="" if is_too_deep else f"{type(error).__name__}: {error}",
            todo="It may have been edited by hand. The data can still be read.",
        ) from error


def show_history(reporter: Reporter, given: dict[str, Any]) -> None:
    """Show the history, check it, or write what makes the file again."""
    from lomrix.plan.from_history import list_tasks

    tasks = list_tasks(read_history(given["file"]), given["file"], Path())
    checks = check_files(tasks) if given["check"] else {}
    account = make_account(given["file"], tasks, checks, full=given["full"])
    written = write_texts(given)
    if reporter.json:
        reporter.print_json(
            {"account": account.to_json(), "tasks": [dict(task.entry) for task in tasks], "written": written}
        )
    elif not reporter.quiet:
        from lomrix.show.terminal import view_account, view_ending

        room = reporter.environment.make_screen().usable_width
        advice = [f"lomrix run {quote_word(given['as_plan'])} --rehearse"] if given["as_plan"] else []
        reporter.show(view_account(account, [], [], room), view_ending(written, advice))
    if any(state != UNCHANGED for state in checks.values()):
        raise typer.Exit(1)


def write_texts(given: dict[str, Any]) -> list[str]:
    """Write everything that was requested, or nothing."""
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import open_source
    from lomrix.files.staging import TextSink
    from lomrix.job.outputs import Outputs

    texts = {name: make_text(name, given) for name in ("as_plan", "as_commands", "as_prov") if given[name]}
    outputs = Outputs({name: TextSink(Path(given[name]), given["overwrite"]) for name in texts})
    outputs.require_different(open_source(given["file"], ReadSettings()).locations)
    for sink in outputs.sinks.values():
        sink.check()
    outputs.stage(texts)
    return [output.description for output in outputs.commit()]


def read_history(file: str) -> Any:
    """Read the history that a file carries."""
    from lomrix.files.file_source import FileSource
    from lomrix.files.folder import FolderSource
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import open_source

    source = open_source(file, ReadSettings())
    # Each file of a folder has the history of the whole.
    source = source.sources[0] if isinstance(source, FolderSource) else source
    history = source.described.history if isinstance(source, FileSource) else None
    if history is None or not history.tasks or not history.last:
        raise UsageError(
            f"{file} has no history.",
            todo="It is a raw file, was written by another program, or was copied without its descriptor.",
        )
    return history


def make_account(file: str, tasks: list[PastTask], checks: dict[str, str], *, full: bool) -> Account:
    """Make the account: the tasks, newest first, each on one line, with the raw files at the ends."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.notes import pluralize

    heads = ("file", "step", "rows", "summary", *(("now",) if checks else ()))
    rows = tuple(row if checks else row[:4] for row in list_tree(tasks, checks))
    raw = {entered.path for task in tasks for entered in task.inputs if not entered.task and entered.path}
    listings = [Listing(f"how {file} was made, newest first", heads, rows)]
    if full:
        listings += [list_balances(task) for task in tasks[::-1]]
    summary = f"{file}: {pluralize(len(tasks), 'task')} from {pluralize(len(raw), 'raw file', 'raw files')}."
    return Account(
        "history",
        summary,
        (),
        {"raw": sorted(raw), "checks": checks},
        tuple(listings),
        tuple(make_notes(tasks, checks)),
    )


def list_tree(tasks: list[PastTask], checks: dict[str, str]) -> list[tuple[object, ...]]:
    """List a row for each task and raw file; a task that two branches share is listed in full once."""
    task_by_id = {task.id: task for task in tasks}
    listed: set[str] = set()
    rows: list[tuple[object, ...]] = []

    def add(task: PastTask, depth: int) -> None:
        name = task.outputs.get("out", f"({task.name})")
        mark = "└ " if depth else ""
        is_repeated = task.id in listed
        summary = "see above" if is_repeated else str(task.entry.get("summary", ""))
        rows.append(("  " * depth + mark + name, task.step_word, task.entry.get("rows"), summary, checks.get(name, "")))
        if is_repeated:
            return
        listed.add(task.id)
        if task.is_origin_hidden:
            rows.append(("  " * (depth + 1) + "└ …", "", None, str(task.entry["begins"]), ""))
        for entered in task.inputs:
            if entered.task in task_by_id:
                add(task_by_id[entered.task], depth + 1)
            else:
                note = f"as {entered.role}" if entered.role not in ("source", "base", "added") else ""
                rows.append(
                    ("  " * (depth + 1) + "└ " + entered.path, "", entered.rows, note, checks.get(entered.path, ""))
                )

    add(tasks[-1], 0)
    return rows


def list_balances(task: PastTask) -> Listing:
    """List the balances of one task as they were stored."""
    from lomrix.core.steps.account import Listing
    from lomrix.plan.from_history import list_entries
    from lomrix.show.balances import read_balance

    rows = []
    for balance in list_entries(task.entry.get("balances")):
        what, total, parts = read_balance(balance)
        rows.append((what, total, " + ".join(f"{number} {word}" for word, number in parts)))
    values = task.entry.get("settings")
    settings = " ".join(list_options(values)) if isinstance(values, dict) else ""
    return Listing(f"{task.name}: {task.step_word} {settings}", ("what", "total", "parts"), tuple(rows))


def check_files(tasks: list[PastTask]) -> dict[str, str]:
    """Check, by path, whether each file is unchanged."""
    from lomrix.files.registry import hash_reference
    from lomrix.plan.from_history import list_entries

    states: dict[str, str] = {}
    for task in tasks:
        hashes = [(entry.path, entry.hash) for entry in task.inputs]
        hashes += [
            (task.outputs[str(entry.get("role"))], str(entry["hash"]))
            for entry in list_entries(task.entry.get("outputs"))
            if entry.get("hash") and entry.get("role") in task.outputs
        ]
        for path, hash_ in hashes:
            if not path or not hash_:
                continue
            try:
                is_same = hash_reference(path) == hash_
            except FileError:
                states[path] = MISSING
                continue
            if states.get(path) != CHANGED:
                states[path] = UNCHANGED if is_same else CHANGED
    return states


def make_notes(tasks: list[PastTask], checks: dict[str, str]) -> list[Note]:
    """Note files that have changed or are missing."""
    from lomrix.core.table.notes import Note

    raw_files = {one.path for task in tasks for one in task.inputs if not one.task}
    return [
        Note(
            f"{state}, so the file would be different if made again." if path in raw_files else f"{state}.",
            path,
            kind="changed",
        )
        for path, state in checks.items()
        if state != UNCHANGED
    ]


def make_text(name: str, given: dict[str, Any]) -> str:
    """Make a plan, commands or provenance with paths relative to the output's folder."""
    from lomrix.plan.from_history import format_plan, has_outside_paths, list_tasks, make_provenance, make_relative_path

    path, file = Path(given[name]), given["file"]
    kind, suffix = {
        "as_plan": ("A plan", ".toml"), "as_commands": ("A script of commands", ".sh"),
        "as_prov": ("Provenance", ".json"),
    }[name]  # fmt: skip
    if path.suffix.lower() != suffix:
        todo = f"Use ‹{name}={path.stem if path.name != '-' else 'made'}{suffix}›."
        raise UsageError(f"{kind} must be a {suffix} file, not {path.name}.", todo=todo)
    tasks = list_tasks(read_history(file), file, path.parent)
    if name == "as_plan":
        return format_plan(tasks, make_relative_path(file, path.parent), path.name, outside=has_outside_paths(tasks))
    if name == "as_commands":
        return format_commands(tasks, make_relative_path(file, path.parent))
    return json.dumps(make_provenance(tasks, file), ensure_ascii=False, indent=1) + "\n"


def format_commands(tasks: list[PastTask], file: str) -> str:
    """Format the commands in a shell script."""
    from lomrix.core.steps.registry import find_entry
    from lomrix.plan.document import PLAN_NAMES
    from lomrix.plan.from_history import make_step_keys

    lines = ["#!/bin/sh", f"# The commands that make {file} again from its raw files, made from its history.",
             'set -eu', 'cd "$(dirname "$0")"']  # fmt: skip
    for task, keys in make_step_keys(tasks):
        entry = find_entry(task.step_word)
        if any(not entered.path and entered.task for entered in task.inputs) or "out" not in task.outputs:
            raise UsageError(
                f"The step {task.name} read or made a table in memory, which commands cannot.",
                todo="Use ‹as_plan=FILE› instead.",
            )
        assert entry is not None
        step = entry.load()
        roles = {role.name: role for role in step.roles}
        files = []
        for name, role in roles.items():
            values = keys.pop(name, [])
            for entered in values if isinstance(values, list) else [values]:
                files += [format_option(name), quote_word(entered)] if role.is_option else [quote_word(entered)]
        del keys["name"], keys["do"]
        keys |= {name: keys.pop(other) for name, other in PLAN_NAMES.items() if other in keys}
        if step.delivers:
            keys["to"] = keys.pop("out")
        lines.append(" ".join(["lomrix", task.step_word, *files, *list_options(keys)]))
    return "\n".join(lines) + "\n"
