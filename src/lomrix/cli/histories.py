"""The command `history`: how a file came about, back to its raw files."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from lomrix.cli.command import told_errors, voice_of, with_signature
from lomrix.cli.face import option, settings_typed, typed
from lomrix.cli.main import Other
from lomrix.cli.options import of_telling, of_writing, parameter
from lomrix.cli.telling import Voice
from lomrix.core.errors import FileError, UsageError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.notes import Note
    from lomrix.plan.from_history import Done

AS_IT_WAS, CHANGED, GONE = "as it was", "changed since", "not there"


def command(other: Other) -> Any:
    """The command."""
    from lomrix.cli.main import command as made

    return made(function(), other.word, other.does, other.example)


def function() -> Any:
    """The function behind it."""
    forms = {
        "as_plan": "Write a plan that makes the file again (.toml).",
        "as_commands": "Write the commands that make it again (.sh).",
        "as_prov": "Write where it came from in PROV-JSON, an open standard (.json).",
    }
    parameters = [
        parameter("file", str, ..., typer.Argument(metavar="FILE", help="A file that Lomrix wrote.")),
        parameter("full", bool, False, typer.Option("--full", help="Show the account of each task.")),
        parameter("check", bool, False, typer.Option("--check", help="Say which files have changed since.")),
        *(
            parameter(name, str, "", typer.Option(option(name), metavar="FILE", help=text))
            for name, text in forms.items()
        ),
        *of_writing(out=False),
        *of_telling(),
    ]

    def history(**given: Any) -> None:
        voice = voice_of(given)
        with told_errors(voice, given["file"]), understood_history(given["file"]):
            tell_history(voice, given)

    return with_signature(history, "history", parameters)


@contextlib.contextmanager
def understood_history(file: str) -> Iterator[None]:
    """A history is only text beside data, which anybody may have changed.

    Raises
    ------
    FileError
        Where it is not as Lomrix writes it.
    """
    try:
        yield
    except (LookupError, TypeError, AttributeError, ValueError, AssertionError, RecursionError) as error:
        if os.environ.get("LOMRIX_DEBUG"):
            raise
        deep = isinstance(error, RecursionError)
        raise FileError(
            f"The history of {file} {'has too many tasks' if deep else 'cannot be understood'}.",
            where="" if deep else f"{type(error).__name__}: {error}",
            todo="Was it changed by hand? The data themselves can be read.",
        ) from error


def tell_history(voice: Voice, given: dict[str, Any]) -> None:
    """Show it, check it, or write what makes the file again.

    Raises
    ------
    typer.Exit
        With status 1 where a file has changed.
    """
    from lomrix.plan.from_history import tasks_behind

    tasks = tasks_behind(history_of(given["file"]), given["file"], Path())
    checks = check(tasks) if given["check"] else {}
    account = account_of(given["file"], tasks, checks, full=given["full"])
    written = write_forms(given)
    if voice.json:
        voice.print_json(
            {"account": account.to_json(), "tasks": [dict(task.entry) for task in tasks], "written": written}
        )
    elif not voice.quiet:
        from lomrix.show.terminal import account_view, ending_view

        room = voice.surroundings.screen().room
        advice = [f"lomrix run {typed(given['as_plan'])}"] if given["as_plan"] else []
        voice.show(account_view(account, [], [], room), ending_view(written, advice))
    if any(state != AS_IT_WAS for state in checks.values()):
        raise typer.Exit(1)


def write_forms(given: dict[str, Any]) -> list[str]:
    """Write what was asked for, all of it or nothing."""
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import source_of
    from lomrix.files.staging import TextSink
    from lomrix.job.outputs import Outputs

    texts = {name: text_of(name, given) for name in ("as_plan", "as_commands", "as_prov") if given[name]}
    outputs = Outputs({name: TextSink(Path(given[name]), given["overwrite"]) for name in texts})
    outputs.require_different(source_of(given["file"], ReadSettings()).places)
    for sink in outputs.sinks.values():
        sink.check()
    outputs.stage(texts)
    return [one.told for one in outputs.commit()]


def history_of(file: str) -> Any:
    """The history that a file carries.

    Raises
    ------
    UsageError
        Where it carries none.
    """
    from lomrix.files.file_source import FileSource
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import source_of

    source = source_of(file, ReadSettings())
    found = source.described.history if isinstance(source, FileSource) else None
    if found is None or not found.tasks or not found.last:
        raise UsageError(
            f"{file} carries no history.",
            todo="It is a raw file, or was written by another program, or its descriptor was left behind.",
        )
    return found


def account_of(file: str, tasks: list[Done], checks: dict[str, str], *, full: bool) -> Account:
    """The tree, newest first, each task in one line; the raw files at its ends."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.notes import counted

    heads = ("made", "by", "rows", "what was done", *(("now",) if checks else ()))
    rows = tuple(row if checks else row[:4] for row in tree(tasks, checks))
    raw = {one.path for task in tasks for one in task.inputs if not one.task and one.path}
    listings = [Listing(f"how {file} came about, newest first", heads, rows)]
    if full:
        listings += [balances(task) for task in tasks[::-1]]
    summary = f"{file}: {counted(len(tasks), 'task', 'tasks')} from {counted(len(raw), 'raw file', 'raw files')}."
    return Account(
        "history", summary, (), {"raw": sorted(raw), "checks": checks}, tuple(listings), tuple(looks(tasks, checks))
    )


def tree(tasks: list[Done], checks: dict[str, str]) -> list[tuple[object, ...]]:
    """One row for each task and each raw file; a task that two branches share is shown whole once."""
    of = {task.id: task for task in tasks}
    shown: set[str] = set()
    rows: list[tuple[object, ...]] = []

    def add(task: Done, depth: int) -> None:
        name = task.outputs.get("out", f"({task.name})")
        mark = "└ " if depth else ""
        again = task.id in shown
        summary = "see above" if again else str(task.entry.get("summary", ""))
        rows.append(("  " * depth + mark + name, task.word, task.entry.get("rows"), summary, checks.get(name, "")))
        if again:
            return
        shown.add(task.id)
        if task.begins:
            rows.append(("  " * (depth + 1) + "└ …", "", None, str(task.entry["begins"]), ""))
        for one in task.inputs:
            if one.task in of:
                add(of[one.task], depth + 1)
            else:
                told = f"as {one.role}" if one.role not in ("source", "base", "added") else ""
                rows.append(("  " * (depth + 1) + "└ " + one.path, "", one.rows, told, checks.get(one.path, "")))

    add(tasks[-1], 0)
    return rows


def balances(task: Done) -> Listing:
    """The account of one task as it was kept."""
    from lomrix.core.steps.account import Listing
    from lomrix.plan.from_history import plain_list

    rows = []
    for balance in plain_list(task.entry.get("balances")):
        found = balance.get("parts", {})
        parts = " + ".join(f"{number} {word}" for word, number in found.items() if number) if found else ""
        rows.append((str(balance.get("what", "")), balance.get("total", 0), parts))
    said = task.entry.get("settings")
    settings = " ".join(settings_typed(said)) if isinstance(said, dict) else ""
    return Listing(f"{task.name}: {task.word} {settings}", ("what", "total", "parts"), tuple(rows))


def check(tasks: list[Done]) -> dict[str, str]:
    """By path, whether each file is still what it was."""
    from lomrix.files.hashing import file_hash
    from lomrix.plan.from_history import plain_list

    found: dict[str, str] = {}
    for task in tasks:
        told = [(one.path, one.hash) for one in task.inputs]
        told += [
            (task.outputs[str(one.get("role"))], str(one["hash"]))
            for one in plain_list(task.entry.get("outputs"))
            if one.get("hash") and one.get("role") in task.outputs
        ]
        for path, hash_ in told:
            if not path or not hash_:
                continue
            file = Path(path.partition("#")[0])
            if not file.is_file():
                found[path] = GONE
            elif found.get(path) != CHANGED:
                found[path] = AS_IT_WAS if file_hash(file) == hash_ else CHANGED
    return found


def looks(tasks: list[Done], checks: dict[str, str]) -> list[Note]:
    """Files that have changed, or are gone."""
    from lomrix.core.table.notes import Note

    raw = {one.path for task in tasks for one in task.inputs if not one.task}
    return [
        Note(
            f"{state}, so that the file would come out otherwise today." if path in raw else f"{state}.",
            path,
            kind="changed",
        )
        for path, state in checks.items()
        if state != AS_IT_WAS
    ]


def text_of(name: str, given: dict[str, Any]) -> str:
    """A plan, commands or provenance; references in it are seen from its own folder."""
    from lomrix.plan.from_history import leaves, plan_text, provenance, seen_from, tasks_behind

    path, file = Path(given[name]), given["file"]
    if name == "as_plan" and path.suffix.lower() != ".toml":
        raise UsageError(f"A plan is a .toml file, not {path.name}.", todo=f"Say ‹as_plan={path.stem}.toml›.")
    tasks = tasks_behind(history_of(file), file, path.parent)
    if name == "as_plan":
        return plan_text(tasks, seen_from(file, path.parent), path.name, outside=leaves(tasks))
    if name == "as_commands":
        return commands(tasks, seen_from(file, path.parent))
    return json.dumps(provenance(tasks, file), ensure_ascii=False, indent=1) + "\n"


def commands(tasks: list[Done], file: str) -> str:
    """The commands as they would be typed, in a shell script."""
    from lomrix.core.steps.registry import entry_of
    from lomrix.plan.document import OTHERWISE
    from lomrix.plan.from_history import steps_of

    lines = ["#!/bin/sh", f"# The commands that make {file} again from its raw files, drawn from its history.",
             'set -eu', 'cd "$(dirname "$0")"']  # fmt: skip
    for task, keys in steps_of(tasks):
        entry = entry_of(task.word)
        if any(not one.path and one.task for one in task.inputs) or "out" not in task.outputs:
            raise UsageError(
                f"The step {task.name} took or made a table that stood in no file, which commands cannot.",
                todo="Say ‹as_plan=FILE› instead.",
            )
        assert entry is not None
        roles = {role.name: role for role in entry.step().roles}
        files = []
        for name, role in roles.items():
            values = keys.pop(name, [])
            for one in values if isinstance(values, list) else [values]:
                files += [option(name), typed(one)] if role.option else [typed(one)]
        del keys["name"], keys["do"]
        keys |= {name: keys.pop(other) for name, other in OTHERWISE.items() if other in keys}
        if task.word == "export":
            keys["to"] = keys.pop("out")
        lines.append(" ".join(["lomrix", task.word, *files, *settings_typed(keys)]))
    return "\n".join(lines) + "\n"
