"""Steps done part by part: parts of tables, and how their results become that of the whole."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from lomrix.core.steps.account import Account
from lomrix.core.steps.step import Inputs, Result, Step
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table


@dataclass(frozen=True)
class PartResult:
    """What one part gave, besides its table: small enough for all of them to be kept."""

    account: Account
    tally: Any
    extras: dict[str, Table]
    shown: tuple[str, ...]
    retyped: tuple[str, ...]


def process_parts(
    step: Step, parts: Iterable[Inputs], wanted: Collection[str], results: list[PartResult]
) -> Iterator[Table]:
    """Yield the table of each part, and keep in `results` what else it gave."""
    for part in parts:
        result = step.process(part, wanted)
        extras = {name: extra for name, extra in result.extras.items() if isinstance(extra, Table)}
        results.append(PartResult(result.account, result.tally, extras, result.shown, result.retyped))
        yield result.table


def conclude_parts(step: Step, table: Any, results: Sequence[PartResult]) -> Result:
    """Return the result of the whole, given its table."""
    account = step.conclude([(result.account, result.tally) for result in results])
    extras = {name: concatenate_tables([result.extras[name] for result in results]) for name in results[0].extras}
    retyped = tuple(dict.fromkeys(name for result in results for name in result.retyped))
    return Result(table, account, extras, results[0].shown, retyped)


def split_rows(table: Table, size: int) -> Iterator[Table]:
    """Yield a table some rows at a time; a table without rows is one part."""
    for start in range(0, max(len(table), 1), size):
        rows = {name: column.slice(start, start + size) for name, column in table.columns.items()}
        yield replace(table, columns=rows, first_row=table.first_row + start)


def apply_in_parts(
    step: Step,
    tables: Inputs,
    wanted: Collection[str],
    size: int,
    collect: Callable[[Iterable[Table]], Table] = lambda parts: concatenate_tables(list(parts)),
) -> Result:
    """Apply a step to parts of so many rows, which gives what `Step.apply` gives; `collect` joins their tables."""
    role = step.roles[0].name
    others = {name: tables.get_all(name) for name in tables.roles if name != role}
    parts = (Inputs(**{role: part}, **others) for part in split_rows(tables.get_one(role), size))
    results: list[PartResult] = []
    table = collect(process_parts(step, parts, wanted, results))
    return conclude_parts(step, table, results)
