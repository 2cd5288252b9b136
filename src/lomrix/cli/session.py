"""What every command does around its step: read, apply, tell, write."""

from __future__ import annotations

import functools
import json
import os
import shlex
import shutil
import sys
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import typer

import lomrix
from lomrix.cli.options import Common
from lomrix.core.errors import LomrixError, UsageError
from lomrix.core.steps.account import Account
from lomrix.core.steps.step import Result, Step
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table
from lomrix.show.progress import Progress

STREAM = "-"
# Stands for the source in a command that a step would have typed next.
SOURCE = "{source}"
# Formats that keep their dictionary and history in a file beside them.
WITH_DESCRIPTOR = (".csv", ".tsv", ".txt", ".jsonl", ".xlsx")


def guarded_command(function: Callable[..., None], common: Common, given: dict[str, Any]) -> None:
    """Run a command; whatever goes wrong is told in plain words, with the exit status of the contract."""
    try:
        function(common, **given)
    except LomrixError as error:
        tell_error(error, common)
        raise typer.Exit(error.exit_status) from None
    except typer.Exit:
        raise
    except BrokenPipeError:
        # The reader of our output went away; that is its right.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise typer.Exit(0) from None
    except Exception as error:
        if os.environ.get("LOMRIX_DEBUG"):
            raise
        told = LomrixError(
            f"Lomrix met something that it did not expect: {type(error).__name__}: {error}",
            todo="Nothing was written. Please report it; LOMRIX_DEBUG=1 shows where it happened.",
        )
        tell_error(told, common)
        raise typer.Exit(1) from None


def tell_error(error: LomrixError, common: Common) -> None:
    """Tell an error on standard error, and as JSON on standard output where that was asked for."""
    from lomrix.show import terminal

    if common.json:
        content = {"error": {"what": error.what, "where": error.where, "next": error.todo}, "status": error.exit_status}
        print(json.dumps(content, ensure_ascii=False, indent=1))
    else:
        terminal.console(to_standard_error=True).print(terminal.error_view(error), soft_wrap=True)


@dataclass
class Session:
    """One command at work.

    Parameters
    ----------
    common
        The shared options.
    sources
        What it reads, as typed.
    """

    common: Common
    sources: Sequence[str]
    tables: list[Table] = field(default_factory=list)
    notes: list[tuple[str, Note]] = field(default_factory=list)
    all_text: frozenset[int] = frozenset()
    _hashes: list[Future[str] | None] = field(default_factory=list)

    def run(self, step: Step, *, is_report: bool = False) -> Result:
        """Read the sources, apply the step, tell the account, and write the result where that was asked for.

        Parameters
        ----------
        step
            What to do.
        is_report
            The account itself is what was asked for, so that nothing is rehearsed.
        """
        from lomrix.files import source, target

        out = self.common.out
        to_stream = out == STREAM
        place = None
        if out and not to_stream:
            beside = [_descriptor_of(out)] if Path(out).suffix.lower() in WITH_DESCRIPTOR else []
            place = target.Target.checked(out, self.sources, overwrite=self.common.overwrite, beside=beside)
            source.format_of(place.path, source.WRITERS, "write")
        with Progress(len(self.sources) + 1 + bool(out), wanted=not self.common.quiet) as progress:
            self.read(progress, step, hashing=place is not None)
            progress.stage(step.__class__.__name__)
            result = self.applied(step)
            written: list[Path] = []
            if place is not None:
                progress.stage(f"writing {place.path.name}")
                written = target.write_table(self.with_history(result.table, result.account), place)
            elif to_stream:
                self._stream(result.table)
        self.tell(result, written, rehearsal=not out and not is_report)
        return result

    def report(self, step: Step, stage: str) -> Any:
        """Read the sources, apply the step and tell the account; the command itself writes what it has to."""
        with Progress(len(self.sources) + 1, wanted=not self.common.quiet) as progress:
            self.read(progress, step, hashing=False)
            progress.stage(stage)
            return self.applied(step)

    def applied(self, step: Step) -> Result:
        """The step's result; an error that names the command to type names it with the source."""
        try:
            return step.apply(*self.tables)
        except LomrixError as error:
            error.todo = error.todo.replace(SOURCE, shlex.quote(self.sources[0]))
            raise

    def read(self, progress: Progress, step: Step, *, hashing: bool) -> None:
        """Read the sources; their hashes, for the history, are taken while the step works on them."""
        from lomrix.files.descriptor import file_hash
        from lomrix.files.dictionary_file import read_dictionary
        from lomrix.files.read import ReadSettings, types_asked
        from lomrix.files.source import path_and_sheet, read_source

        common = self.common
        if common.decimal not in (".", ","):
            raise UsageError(f'The decimal sign "{common.decimal}" is neither . nor ,.', todo='Say --decimal ",".')
        if len(common.delimiter) > 1 and common.delimiter != "\\t":
            raise UsageError(
                f'The delimiter "{common.delimiter}" is not one sign.', todo='Say --delimiter ";" or "\\t".'
            )
        settings = ReadSettings(
            types=types_asked(list(common.type_)),
            delimiter="\t" if common.delimiter == "\\t" else common.delimiter,
            encoding=common.encoding,
            decimal=common.decimal,
            missing_text=tuple(text.strip() for texts in common.missing_text for text in texts.split(",")),
        )
        if common.dictionary:
            settings = replace(settings, dictionary=read_dictionary(common.dictionary))
        for place, name in enumerate(self.sources):
            progress.stage(f"reading {Path(name).name}")
            needed = functools.partial(step.columns_needed, place)
            read = read_source(name, replace(settings, needed=needed, all_text=place in self.all_text))
            self.tables.append(read.table)
            # A ledger's cells are quoted, not read, so there is nothing to note of them.
            self.notes += [(read.table.name, note) for note in read.notes if place not in self.all_text]
        if hashing:
            workers = ThreadPoolExecutor(1)
            files = [path_and_sheet(name)[0] for name in self.sources]
            self._hashes = [workers.submit(file_hash, file) if file.is_file() else None for file in files]
            workers.shutdown(wait=False)
        give_back_unused()
        self.tables = distinctly_named(self.tables)
        require_known(settings.types, self.tables)

    def with_history(self, table: Table, account: Account) -> Table:
        """The table with this command added to its history."""
        inputs = [
            {"path": source, "rows": len(one)} | ({} if future is None else {"hash": future.result()})
            for source, one, future in zip(self.sources, self.tables, self._hashes, strict=False)
        ]
        entry = {
            "command": typed_command(),
            "version": lomrix.__version__,
            "inputs": inputs,
            "rows": len(table),
            "summary": account.summary,
            "balances": [balance.to_json() for balance in account.balances],
        }
        return replace(table, history=(*table.history, entry))

    def _stream(self, table: Table) -> None:
        """The result as comma-separated text on standard output."""
        from lomrix.files import delimited

        with tempfile.TemporaryDirectory() as folder:
            part = Path(folder) / "stream.csv"
            delimited.write_table(table, part, part, [])
            with part.open("rb") as file:
                shutil.copyfileobj(file, sys.stdout.buffer)
        sys.stdout.flush()

    def tell(self, result: Result, written: Sequence[Path], *, rehearsal: bool, compared: int = 0) -> None:
        """Tell the account to a person, or as JSON to a script."""
        common = self.common
        if common.json:
            content = {
                "account": result.account.to_json(),
                "sources": [
                    {"path": source, "rows": len(table), "columns": len(table.names)}
                    for source, table in zip(self.sources, self.tables, strict=True)
                ],
                "notes": [{"source": source, **note.to_json()} for source, note in self.notes],
                "columns": result.table.types(),
                "rehearsal": rehearsal,
                "written": [str(path) for path in written],
                "compared_cells": compared,
            }
            text = json.dumps(content, ensure_ascii=False, indent=1)
            print(text, file=sys.stderr if common.out == STREAM else sys.stdout)
            return
        if common.quiet:
            return
        from lomrix.show import terminal

        screen = terminal.console(to_standard_error=common.out == STREAM)
        read = [
            f"{source}: {counted(len(table), 'row', 'rows')}, {counted(len(table.names), 'column', 'columns')}"
            for source, table in zip(self.sources, self.tables, strict=True)
        ]
        screen.print(terminal.account_view(result.account, read, self.notes))
        if rehearsal:
            screen.print(terminal.first_rows_view(result.table, screen.width))
        if common.out != STREAM:
            lines = [written_line(path, result.table, place == 0) for place, path in enumerate(written)]
            advice = [line.replace(SOURCE, shlex.quote(self.sources[0])) for line in result.account.advice]
            screen.print(terminal.ending_view(lines, advice, compared, rehearsal=rehearsal))


def _descriptor_of(out: str) -> Path:
    from lomrix.files.descriptor import descriptor_path

    return descriptor_path(Path(out))


def written_line(path: Path, table: Table, is_data: bool) -> str:
    """One file that was written, in words."""
    if is_data:
        return (
            f"{path}  ({counted(len(table), 'row', 'rows')}, {len(table.names)} columns, {path.stat().st_size:,} bytes)"
        )
    return str(path)


def typed_command() -> str:
    """The command line as it was typed."""
    return shlex.join(["lomrix", *sys.argv[1:]])


def give_back_unused() -> None:
    """Give memory that the reading has left over back to the system, before the step asks for its own."""
    import pyarrow as pa

    pa.default_memory_pool().release_unused()


def distinctly_named(tables: list[Table]) -> list[Table]:
    """Tables whose names differ, so that messages can tell two files of one name apart."""
    seen: dict[str, int] = {}
    named = []
    for table in tables:
        seen[table.name] = seen.get(table.name, 0) + 1
        named.append(table if seen[table.name] == 1 else replace(table, name=f"{table.name}_{seen[table.name]}"))
    return named


def require_known(types: Any, tables: list[Table]) -> None:
    """Stop where a type was given to a column that no source has.

    Raises
    ------
    UsageError
        Naming the column.
    """
    from lomrix.core.table.selection import unknown_column

    for name in types:
        if not any(name in table.columns for table in tables):
            raise unknown_column(name, tables[0].names, tables[0].name)
