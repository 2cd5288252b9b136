"""Stack files in which a case and occasion may be in several rows."""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from lomrix.core.arrays.matching import count_codes, find_first_rows
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_rows, format_keys
from lomrix.core.rows.partitions import split_by_key
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.parts import MemoryStore
from lomrix.core.steps.stack.run import Stacking, Survey, balance_marks, prepare, stack, survey
from lomrix.core.steps.stack.settings import Repeated, Stack
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.steps.parts import Store


def stack_files(step: Stack, tables: Inputs, wanted: Collection[str], whole: Survey | None = None) -> Result:
    """Stack whole tables with or without a case, or parts of them with the survey of all parts."""
    result = stack_cases(step, tables, lambda plain, same: plain.apply(same, wanted), sys.maxsize, MemoryStore)
    return stack(step, tables, wanted, whole) if result is None else result


def stack_cases(
    step: Stack, tables: Inputs, apply: Callable[[Stack, Inputs], Result], size: int, make_store: Callable[[], Store]
) -> Result | None:
    """Stack the tables by `apply`, then resolve rows of one case and occasion, `size` rows at a time; None if no case
    is named.

    Raises DataError if such rows are to stop the step.
    """
    if not step.case:
        return None
    renamed = prepare(step, tables)
    if any(name not in table.columns for table in renamed for name in step.case):
        Stacking(step, renamed, survey(step, tables)).check()
    result = apply(step.with_settings(case=(), repeated="stop"), tables)
    repeats = Repeats.find(result.table, step.told_apart_by, step.repeated, size)
    if not repeats.keys:
        return result
    names = ", ".join(step.told_apart_by)
    message = f"{pluralize(repeats.keys, 'case and occasion is', 'cases and occasions are')} in several rows"
    if step.repeated == "stop":
        todo = "Correct the files, or use ‹repeated=first›, last or keep."
        raise DataError(f"{message}.", where=", ".join(repeats.first), todo=todo)
    dropped = len(repeats.dropped)
    note = Note(f"{message}.", names, (), "repeated", repeats.keys)
    if not dropped:
        return replace(result, account=replace(result.account, notes=(note, *result.account.notes)))
    note = replace(note, text=f"{message}; the {step.repeated} of each is kept.")
    is_kept = np.ones(len(result.table), np.bool_)
    is_kept[repeats.dropped] = False
    store, start = make_store(), 0
    for block in result.table.split(size):
        store.append(block.take(np.flatnonzero(is_kept[start : start + len(block)])))
        start += len(block)
    table = replace(store.finish(), row_numbers=None)
    return replace(result, table=table, account=take_out(result.account, table, step.mark_name, dropped, note, size))


@dataclass(frozen=True)
class Repeats:
    """Cases and occasions that are in several rows: how many, the first as text, and the rows that do not stay."""

    keys: int
    first: tuple[str, ...]
    dropped: Array

    @classmethod
    def find(cls, table: Table, names: tuple[str, ...], rule: Repeated, size: int) -> Repeats:
        """Find them; in more than `size` rows, the rows of some keys after the other."""
        whole = [(np.arange(len(table)), table.only(names))]
        keys, first, dropped = 0, list[tuple[int, str]](), [np.zeros(0, np.int64)]
        for rows, some in whole if len(table) <= size else split_by_key(table, names):
            codes, code_count = encode_rows(some, names)
            counts = count_codes(codes, code_count)
            is_repeated = np.append(counts > 1, False)[codes]
            keys += int(np.count_nonzero(counts > 1))
            shown = np.flatnonzero(is_repeated)[:MOST_EXAMPLES]
            first += zip(rows[shown].tolist(), format_keys(some, names, shown), strict=True)
            if rule in ("first", "last"):
                stays = find_first_rows(codes if rule == "first" else codes[::-1], code_count)[counts > 1]
                is_repeated[stays if rule == "first" else len(codes) - 1 - stays] = False
                dropped.append(rows[is_repeated])
        texts = dict.fromkeys(text for _, text in sorted(first)[:MOST_EXAMPLES])
        return cls(keys, tuple(texts), np.concatenate(dropped))


def take_out(account: Account, table: Table, mark: str, dropped: int, note: Note, size: int) -> Account:
    """Return the account of stacked files of which some rows were left out, with the rest as `table`."""
    total, balances = len(table) + dropped, list[Balance]()
    for balance in account.balances:
        if balance.what == "rows":
            parts = (Part("kept", len(table), "in-result"), Part("left out", dropped, "repeated"))
            balances.append(Balance("rows", total, parts))
        elif balance.what == "rows of the result":
            balances.append(balance_marks(mark, table.split(size)))
        elif balance.what != "kept values":
            balances.append(balance)
    summary = account.summary
    if isinstance(summary, Words):
        summary = Words(summary.template, **{**summary.values, "rows": len(table)})
    facts = {**account.facts, "rows": len(table)}
    return replace(account, summary=summary, balances=tuple(balances), facts=facts, notes=(note, *account.notes))
