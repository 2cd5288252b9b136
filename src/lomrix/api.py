"""The Python interface: read, apply steps, look at accounts, write, exchange columns with NumPy and Arrow.

Its names are those of `lomrix.__all__`, which load this module on first use.
"""

from __future__ import annotations

import io
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from types import MappingProxyType
from typing import Any

import numpy as np
import pyarrow as pa

from lomrix.core.errors import LomrixError, UsageError
from lomrix.core.nearest import advise
from lomrix.core.steps.account import Account
from lomrix.core.steps.registry import ENTRIES, find_entry
from lomrix.core.steps.step import Inputs, Result, Step
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import NO_HISTORY
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table
from lomrix.core.wording import format_settings
from lomrix.files.arrow_columns import column_from_arrow, combine_chunks
from lomrix.files.dictionary_file import read_dictionary
from lomrix.files.missing import InCells
from lomrix.files.reading import ReadingOptions, ReadSettings
from lomrix.files.registry import open_sink, open_source, refuse_unused_options
from lomrix.job.budget import RunningOptions
from lomrix.job.run import StoppedError, run
from lomrix.job.streams import Streams
from lomrix.job.task import TABLE, Task


@contextmanager
def _in_python() -> Iterator[None]:
    """Write settings in error messages as keyword arguments."""
    try:
        yield
    except LomrixError as error:
        for part in ("what", "where", "todo"):
            text = format_settings(getattr(error, part), lambda name, value: f"{name}={value!r}" if value else name)
            setattr(error, part, text)
        error.args = (" ".join(filter(None, (error.what, error.where, error.todo))),)
        raise


@_in_python()
def read(reference: str, *, columns: Collection[str] | None = None, as_text: bool = False, **options: Any) -> Table:
    """Read a file, a worksheet (`book.xlsx#Sheet`) or a table of a database.

    `options` are those for reading on the command line, such as `dictionary="dictionary.toml"` or
    `type=["visit=date:%d/%m/%Y"]`. With `as_text` every cell is kept as text, as the ledger of `correct` needs it.
    """
    reading = ReadingOptions(**options)
    known_variables = read_dictionary(reading.dictionary) if reading.dictionary else Dictionary()
    source = open_source(str(reference), replace(ReadSettings.from_options(reading, known_variables), all_text=as_text))
    refuse_unused_options(reading, [(str(reference), source)])
    try:
        return source.read(columns).table
    finally:
        source.close()


@_in_python()
def make_table(columns: Mapping[str, Any], *, name: str = "table", dictionary: Dictionary | None = None) -> Table:
    """Make a table from lists, NumPy arrays (masked cells and NaN are missing), Arrow arrays or columns."""
    result = {column: _to_column(values, column, name) for column, values in columns.items()}
    lengths = {column: len(values) for column, values in result.items()}
    if len(set(lengths.values())) > 1:
        raise UsageError("The columns have different lengths.", where=", ".join(f"{n} {k}" for k, n in lengths.items()))
    return Table(result, dictionary or Dictionary(), name=name)


def _to_column(values: Any, name: str, table: str) -> Column:
    if isinstance(values, Column):
        return values
    try:
        if isinstance(values, pa.Array | pa.ChunkedArray):
            array = pa.chunked_array([values]) if isinstance(values, pa.Array) else values
        else:
            masked = values if isinstance(values, np.ndarray) else np.ma.MaskedArray(values, dtype=object)
            cells = np.ma.getdata(masked)
            is_missing = np.array(np.ma.getmaskarray(masked))
            if cells.dtype.kind in "fM":
                is_missing |= np.isnat(cells) if cells.dtype.kind == "M" else np.isnan(cells)
            array = pa.chunked_array([pa.array(cells, mask=is_missing)])
    except (pa.ArrowException, TypeError, ValueError, OverflowError) as error:
        raise UsageError(f"The values of {name} cannot be a column.", where=str(error), columns=[name]) from error
    if pa.types.is_null(array.type):
        array = array.cast(pa.large_string())
    return column_from_arrow(combine_chunks(array), name, table, BLANK)


@_in_python()
def make_step(word: str, **settings: Any) -> Step:
    """Make a step from its settings: the options of the command, with underscores."""
    entry = find_entry(word)
    if entry is None:
        words = [entry.word for entry in ENTRIES]
        raise UsageError(f"Unknown step {word}.", todo=advise(word, words, f"Use one of {', '.join(words)}."))
    return entry.load()(**settings)


@_in_python()
def apply(step: Step, *tables: Table, wanted: Collection[str] = (), **roles: Table | str | Sequence[Table]) -> Result:
    """Apply a step to tables: positional ones for its first role, the others by role (`base=crew, added=sleep`).

    `wanted` names extras to produce, such as `unmatched`. A secret (`seed` of deidentify) is a string. The result's
    table has no history, since the tables may have been changed in between.
    """
    inputs: dict[str, Table | Sequence[Table]] = {step.roles[0].name: tables} if tables else {}
    for role, given in roles.items():
        inputs[role] = make_text_table(["secret"], [[given]], role) if isinstance(given, str) else given
    result = step.apply(Inputs(**inputs), wanted)
    return replace(result, table=replace(result.table, history=NO_HISTORY))


@_in_python()
def apply_to_files(
    step: Step,
    inputs: str | Mapping[str, str | Sequence[str]],
    out: str,
    *,
    extras: Mapping[str, str] = MappingProxyType({}),
    overwrite: bool = False,
    memory: str = "",
    scratch: str = "",
    workers: int = 1,
    cluster: str = "",
    cluster_tls: str = "",
    **options: Any,
) -> Account:
    """Apply a step to files of any size and write the result, as the command line does: with history, and in parts if
    they need more than `memory` (such as "4GB").

    `inputs` names the file of the first role, or files by role; `extras` the files for extras. `options` are those for
    reading. Returns the account.
    """
    by_role = {step.roles[0].name: inputs} if isinstance(inputs, str) else inputs
    running = RunningOptions(memory=memory, scratch=scratch, workers=workers, cluster=cluster, cluster_tls=cluster_tls)
    files = {role: (given,) if isinstance(given, str) else tuple(given) for role, given in by_role.items()}
    task = Task(step, files, ReadingOptions(**options), {TABLE: str(out), **extras}, overwrite, running=running)
    try:
        return run(task, Streams(io.BytesIO(), io.BytesIO())).result.account
    except StoppedError as stopped:
        raise stopped.__cause__ or stopped from None


@_in_python()
def write(table: Table, reference: str, *, overwrite: bool = False, missing: InCells = "empty") -> list[str]:
    """Write a table to a file or database; returns the files written. `missing` may be `words` for reasons in cells."""
    return _write(open_sink(str(reference), overwrite=overwrite, in_cells=missing), table)


@_in_python()
def export(table: Table, reference: str, *, overwrite: bool = False, **settings: Any) -> Result:
    """Export a table with recoded missing values: `missing_code`, `form` and the other options of the command."""
    step = make_step("export", **settings)
    result = apply(step, table)
    sink = open_sink(str(reference), delivery=step.delivery, overwrite=overwrite)
    sink.set_prepared(result.extras["prepared"])
    _write(sink, result.table)
    return result


def _write(sink: Any, table: Table) -> list[str]:
    sink.check()
    try:
        sink.stage(table)
        written = sink.commit()
    except BaseException:
        sink.discard()
        raise
    sink.settle()
    return [output.description for output in written]


def format_account(account: Account) -> str:
    """Format an account as the command line prints it."""
    from lomrix.cli.wording import TypedCommand
    from lomrix.cli.wording import format_account as format_for_command_line
    from lomrix.show.terminal import Screen, view_account

    stream = io.StringIO()
    Screen(stream).make_console().print(view_account(format_for_command_line(account, TypedCommand()), [], []))
    return stream.getvalue()


def to_numpy(column: Column) -> np.ma.MaskedArray[Any, Any]:
    """Return the values of a column as a masked array; strings are objects."""
    values = np.array(column.to_arrow().to_pylist(), object) if column.type == "string" else np.array(column.values)
    return np.ma.MaskedArray(values, np.array(column.is_missing))


def to_arrow(table: Table) -> pa.Table:
    """Return a table as an Arrow table; missing cells are null."""
    return pa.table({name: column.to_arrow() for name, column in table.columns.items()})
