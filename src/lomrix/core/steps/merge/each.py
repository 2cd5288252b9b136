"""A merge with links, keys of one file, or several added tables, as merges of one table each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from lomrix.core.errors import Proposal, UsageError
from lomrix.core.steps.account import Account
from lomrix.core.steps.merge.links import apply_links
from lomrix.core.steps.merge.origin import Origin, combine_accounts, name_status, stack_texts
from lomrix.core.steps.merge.settings import KeyPairs, Merge, get_file
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.wording import split_list

if TYPE_CHECKING:
    from lomrix.core.steps.parts import Store


def merge_each(
    step: Merge,
    tables: Inputs,
    apply: Callable[[Merge, Inputs], Result],
    size: int,
    make_store: Callable[[], Store],
) -> Result | None:
    """Merge one added table after the other, each by `apply`; None if there is one, and no links or keys of its own.

    What is beside that is done `size` rows at a time.
    """
    base, added_tables, links = tables.get_one("base"), tables.get_all("added"), tables.get_optional("links")
    step.require_files([table.name for table in added_tables])
    if links is None and len(added_tables) == 1 and not any(map(get_file, step.key)):
        return None
    if step.status:
        require_new_name(step.status, [name for table in tables for name in table.names], "the status column")
        Origin.require_few(len(added_tables))
    require_known_columns(step, added_tables)
    files, key, accounts = [base.name], step.pairs, list[Account]()
    if links is not None:
        base, key, account = apply_links(base, links, added_tables[0], key, size, make_store)
        accounts.append(account)
    results: list[Result] = []
    for added in added_tables:
        pairs = key if links is not None else step.pairs_of(added.name)
        one = narrow(step, pairs, name_status(step.status, len(files)))
        results.append(apply(one, Inputs(base=base, added=take_columns(step, pairs, added))))
        base = results[-1].table
        files.append(added.name)
    if step.status:
        base = Origin(tuple(files), step.status).join_statuses(base, size, make_store)
    accounts += [restore_advice(step, result.account) for result in results]
    return Result(base, combine_accounts(accounts), stack_extras(results))


def narrow(step: Merge, key: KeyPairs, status: str) -> Merge:
    """Return the step for one added table, of which the columns to take are chosen already."""
    names = tuple(base if base == added else f"{base}={added}" for base, added in key)
    return step.with_settings(key=names, status=status, take="")


def restore_advice(step: Merge, account: Account) -> Account:
    """Return the account with proposals to merge again that have all settings."""
    settings = step.to_dict()
    advice = tuple(
        replace(part, settings={**part.settings, **settings, "tidy_keys": part.settings["tidy_keys"]})
        if isinstance(part, Proposal)
        else part
        for part in account.advice
    )
    return replace(account, advice=advice)


def stack_extras(results: Sequence[Result]) -> dict[str, Table]:
    """Return the extras of several merges, each stacked."""
    names = dict.fromkeys(name for result in results for name in result.extras)
    stacked = {
        name: stack_texts([result.extras[name] for result in results if name in result.extras]) for name in names
    }
    return {name: table for name, table in stacked.items() if table is not None}


def take_columns(step: Merge, key: KeyPairs, added: Table) -> Table:
    """Return the added table with its keys and the chosen columns."""
    if not step.take:
        return added
    required = [*(name for _, name in key), *step.compared_columns]
    chosen = [name for choice in split_list(step.take) for name in choose_by_word(choice, added)]
    return added.only([*required, *(name for name in chosen if name not in required)])


def choose_by_word(choice: str, added: Table) -> list[str]:
    """Return the columns of a table that one word of a choice names, possibly none."""
    try:
        return choose_columns(choice, added.types(), added.name)
    except UsageError:
        return []


def require_known_columns(step: Merge, tables: Sequence[Table]) -> None:
    """Stop if a word of the choice names no column of any added table.

    Raises UsageError for the last of the tables.
    """
    for choice in split_list(step.take):
        if not any(choose_by_word(choice, table) for table in tables):
            choose_columns(choice, tables[-1].types(), tables[-1].name)
