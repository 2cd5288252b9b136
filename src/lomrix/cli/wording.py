"""How settings, steps, errors and accounts are written on the command line."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from lomrix.core.errors import LomrixError, Proposal
from lomrix.core.wording import format_settings
from lomrix.show.numbers import escape_controls

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.steps.step import Step
    from lomrix.core.table.notes import Note

PLAIN_WORD = re.compile(r"[\w@%+=:,./*-]+", re.ASCII)
# Inputs and outputs that have another name on the command line.
OPTION_NAMES = {"links": "through"}
ARGUMENTS = ("source", "base", "added", "variables", "expressions")


def format_option(name: str) -> str:
    """Format a setting's name as an option."""
    return "--" + OPTION_NAMES.get(name, name).replace("_", "-")


def quote_word(word: str) -> str:
    """Quote a word for a shell."""
    if PLAIN_WORD.fullmatch(word):
        return word
    return f'"{word}"' if not set(word) & set('"$`\\!') else shlex.quote(word)


def format_setting(name: str, value: str) -> str:
    """Format a setting in a message, with its value if there is one."""
    if name in ARGUMENTS:
        return quote_word(value) if value else name.upper()
    return f"{format_option(name)} {quote_word(value)}" if value else format_option(name)


def format_text(text: str) -> str:
    """Format the settings in a message of the core as options."""
    return format_settings(text, format_setting)


def list_options(settings: Mapping[str, object]) -> list[str]:
    """List settings as they are typed; empty ones are left out."""
    words: list[str] = []
    for name, value in settings.items():
        if value is True:
            words.append(format_option(name))
        elif isinstance(value, list | tuple):
            words += [format_setting(name, str(item)) for item in value]
        elif value not in (None, False, ""):
            words.append(format_setting(name, str(value)))
    return words


@dataclass(frozen=True)
class TypedCommand:
    """What was typed, as far as a proposed command repeats it: the step, its files by role, and how they are read."""

    inputs: Mapping[str, Sequence[str]] = field(default_factory=dict)
    reading: Sequence[str] = ()
    step: Step | None = None

    @property
    def first_input(self) -> str:
        """The first file."""
        return next((reference for references in self.inputs.values() for reference in references), "FILE")


def format_proposal(proposal: Proposal, typed: TypedCommand) -> str:
    """Format a proposed step as a command that reads the files like the last one did."""
    inputs: Mapping[str, Sequence[str]] = {"source": (typed.first_input,)}
    settings = proposal.settings
    if typed.step is not None and typed.step.word == proposal.do:
        inputs, settings = typed.inputs, {**typed.step.to_dict(), **settings}
    inputs = {**inputs, **{role: (path,) for role, path in proposal.inputs.items()}}
    files = [format_setting(role, reference) for role, references in inputs.items() for reference in references]
    outputs = [format_setting(role, path) for role, path in proposal.outputs.items()]
    command = " ".join(["lomrix", proposal.do, *files, *list_options(settings), *typed.reading, *outputs])
    return escape_controls(f"{proposal.words}: {command}" if proposal.words else command)


def format_error(error: LomrixError, typed: TypedCommand) -> LomrixError:
    """Format an error for the command line, with the command that would correct it."""
    todo = format_text(error.todo)
    if error.proposal is not None:
        todo = f"{format_proposal(error.proposal, typed)}\n{todo}".rstrip()
    where = error.where if error.pointer is not None else format_text(error.where)
    return error.reword(format_text(error.what), where, todo)


def format_note(note: Note, write: Callable[[str], str] = format_text) -> Note:
    """Format a note for the command line, or as `write` does."""
    return replace(note, text=write(note.text))


def format_listing(listing: Listing, write: Callable[[str], str] = format_text) -> Listing:
    """Format a listing for the command line, or as `write` does."""
    rows = (tuple(write(cell) if isinstance(cell, str) else cell for cell in row) for row in listing.rows)
    return replace(listing, title=write(listing.title), rows=tuple(rows))


def format_account(account: Account, typed: TypedCommand | None, write: Callable[[str], str] = format_text) -> Account:
    """Format an account for the command line, or as `write` does; without a typed command no command is proposed."""
    advice = [write(part) for part in account.advice if isinstance(part, str)]
    if typed is not None and typed.first_input != "-":
        advice += [format_proposal(part, typed) for part in account.advice if not isinstance(part, str)]
    return replace(
        account,
        summary=write(account.summary),
        listings=tuple(format_listing(listing, write) for listing in account.listings),
        parts=tuple(format_account(part, typed, write) for part in account.parts),
        notes=tuple(format_note(note, write) for note in account.notes),
        advice=tuple(advice),
    )
