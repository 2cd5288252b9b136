"""The command line's own words: how settings, steps, errors and accounts are said here."""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from lomrix.core.errors import LomrixError, Proposal
from lomrix.core.wording import worded
from lomrix.show.visible import visible

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.steps.step import Step
    from lomrix.core.table.notes import Note

PLAIN = re.compile(r"[\w@%+=:,./*-]+", re.ASCII)
# Inputs and outputs that are called otherwise on a command line.
OPTIONS = {"links": "through"}
STANDS_BY_PLACE = ("source", "base", "added", "variables", "expressions")


def option(name: str) -> str:
    """A setting's name as an option."""
    return "--" + OPTIONS.get(name, name).replace("_", "-")


def typed(word: str) -> str:
    """A word as it is typed into a shell."""
    if PLAIN.fullmatch(word):
        return word
    return f'"{word}"' if not set(word) & set('"$`\\!') else shlex.quote(word)


def said(name: str, value: str) -> str:
    """A setting in a message, with its value where one is said."""
    if name in STANDS_BY_PLACE:
        return typed(value) if value else name.upper()
    return f"{option(name)} {typed(value)}" if value else option(name)


def in_words(text: str) -> str:
    """A message of the core in the words of the command line."""
    return worded(text, said)


def settings_typed(settings: Mapping[str, object]) -> list[str]:
    """Settings as they are typed; those that say nothing are left out."""
    words: list[str] = []
    for name, value in settings.items():
        if value is True:
            words.append(option(name))
        elif isinstance(value, list | tuple):
            words += [said(name, str(one)) for one in value]
        elif value not in (None, False, ""):
            words.append(said(name, str(value)))
    return words


def proposed(proposal: Proposal, reference: str, reading: Sequence[str] = ()) -> str:
    """A step that could be done next, as a command that reads the file as this one did."""
    files = [said(role, file) for role, file in proposal.inputs.items()]
    settings = settings_typed(proposal.settings)
    return visible(" ".join(["lomrix", proposal.do, typed(reference), *settings, *files, *reading]))


def told_error(error: LomrixError, reference: str, reading: Sequence[str] = ()) -> LomrixError:
    """An error in the words of the command line, with the command that would mend it."""
    todo = in_words(error.todo)
    if error.proposal is not None:
        todo = f"{proposed(error.proposal, reference, reading)}\n{todo}".rstrip()
    told = LomrixError(
        in_words(error.what), where=error.where if error.pointer is not None else in_words(error.where), todo=todo
    )
    told.exit_status, told.pointer = error.exit_status, error.pointer
    return told


def told_note(note: Note) -> Note:
    """A note in the words of the command line."""
    return replace(note, text=in_words(note.text))


def told_listing(listing: Listing) -> Listing:
    """A listing in the words of the command line."""
    rows = (tuple(in_words(cell) if isinstance(cell, str) else cell for cell in row) for row in listing.rows)
    return replace(listing, title=in_words(listing.title), rows=tuple(rows))


def told_account(account: Account, reference: str, reading: Sequence[str] = ()) -> Account:
    """An account in the words of the command line."""
    return replace(
        account,
        summary=in_words(account.summary),
        listings=tuple(map(told_listing, account.listings)),
        parts=tuple(told_account(one, reference, reading) for one in account.parts),
        notes=tuple(map(told_note, account.notes)),
        advice=tuple(
            proposed(one, reference, reading) if isinstance(one, Proposal) else in_words(one)
            for one in account.advice
        ),
    )  # fmt: skip


def command_of(step: Step, inputs: Mapping[str, tuple[str, ...]], outputs: Mapping[str, str]) -> str:
    """A task as it would be typed."""
    files = [said(role, one) for role, references in inputs.items() for one in references]
    words = [said(name, one) for name, one in outputs.items()]
    return " ".join(["lomrix", step.word, *files, *settings_typed(step.said()), *words])
