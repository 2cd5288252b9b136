"""Telling: the outcome of a task to a person, or as JSON to a script."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from lomrix.cli.face import proposed, said, told_account, told_error, told_listing, told_note, typed
from lomrix.cli.surroundings import Surroundings
from lomrix.core.errors import LomrixError, Proposal
from lomrix.show.visible import STEERING, visible

if TYPE_CHECKING:
    from rich.console import RenderableType

    from lomrix.core.steps.account import Listing
    from lomrix.core.table.notes import Note
    from lomrix.core.table.table import Table
    from lomrix.job.outputs import Written
    from lomrix.job.run import Outcome
    from lomrix.job.task import Task

# What findings tell already need not be told twice.
TOLD_BY_FINDINGS = (
    "stray-text",
    "not-whole",
    "blanks-around",
    "unclear-date",
    "decimal-comma",
    "digits-kept",
    "offset",
)


@dataclass(frozen=True)
class Voice:
    """How much is said, and where.

    Parameters
    ----------
    surroundings
        Where the program runs.
    json
        Whether a script is told, and not a person.
    quiet
        Whether only errors are.
    to_errors
        Whether standard output belongs to the data.
    """

    surroundings: Surroundings
    json: bool = False
    quiet: bool = False
    to_errors: bool = False
    reading: tuple[str, ...] = ()

    def print_json(self, content: object) -> None:
        """Give a script its answer."""
        stream = self.surroundings.stderr if self.to_errors else self.surroundings.stdout

        # Line ends are the form of the answer; other signs that would steer a terminal are escaped as JSON has it.
        lines = json.dumps(content, ensure_ascii=False, indent=1).split("\n")
        print("\n".join(STEERING.sub(lambda sign: f"\\u{ord(sign[0]):04x}", line) for line in lines), file=stream)

    def show(self, *views: RenderableType, soft_wrap: bool = False) -> None:
        """Show a person something."""
        console = self.surroundings.screen(errors=self.to_errors).console()
        for view in views:
            console.print(view, soft_wrap=soft_wrap)

    def tell_error(self, error: LomrixError, reference: str = "FILE") -> None:
        """Tell an error on standard error; to a script as JSON on standard output."""
        told = told_error(error, reference, self.reading)
        if self.json:
            content: dict[str, object] = {"what": told.what, "where": told.where, "next": told.todo}
            if told.pointer is not None:
                content["at"] = told.pointer
            if notes := getattr(error, "notes", ()):
                content["notes"] = [{"source": name, **told_note(note).to_json()} for name, note in notes]
            self.print_json({"error": content, "status": told.exit_status})
            return
        from lomrix.show.terminal import error_view

        console = self.surroundings.screen(errors=True).console()
        # A person's window breaks lines between words; a file keeps them whole.
        console.print(error_view(told), soft_wrap=not self.surroundings.stderr_is_terminal)

    def tell_stop(self, written: Sequence[Written], notes: Sequence[tuple[str, Note]]) -> None:
        """Tell a person what an error leaves behind, and what there is to look at, before the error itself."""
        if self.json or self.quiet:
            return
        from lomrix.show import terminal

        if written:
            self.show(terminal.ending_view([written_line(one) for one in written], []))
        if notes:
            told = [(name, told_note(note)) for name, note in notes]
            replace(self, to_errors=True).show(terminal.notes_view(told))

    def tell(self, outcome: Outcome, study: str = "") -> None:
        """Tell the outcome of a task, and what of the study file counted."""
        reference = outcome.sources[0][0] if outcome.sources else "FILE"
        if self.json:
            self.print_json({**as_json(outcome, reference, self.reading), **({"study": study} if study else {})})
        elif not self.quiet:
            if study:
                from rich.text import Text

                self.show(Text(f"study  {visible(study)}", style="dim"))
            self._tell_person(outcome, reference)

    def tell_listings(self, listings: Sequence[Listing]) -> None:
        """Show some listings, and nothing else."""
        from lomrix.show import terminal

        room = self.surroundings.screen(errors=self.to_errors).room
        for listing in listings:
            self.show(terminal.listing_view(told_listing(listing), room))

    def _tell_person(self, outcome: Outcome, reference: str) -> None:
        from lomrix.core.table.notes import counted
        from lomrix.show import terminal

        task, result = outcome.task, outcome.result
        read = [
            f"{source}: {counted(len(table), 'row', 'rows')}, {counted(len(table.source_names), 'column', 'columns')}"
            for source, table in outcome.sources
        ]
        notes = [(name, told_note(note)) for name, note in outcome.notes if not findings_tell(task, note.kind)]
        account = told_account(result.account, reference, self.reading)
        room = self.surroundings.screen(errors=self.to_errors).room
        self.show(terminal.account_view(account, read, notes, room))
        has_table = task.step.result in ("table", "page")
        rehearses = task.rehearses or (has_table and "out" not in task.outputs)
        for listing in outcome.beforehand:
            self.show(terminal.listing_view(told_listing(listing), room))
        if rehearses and task.step.result == "table":
            self.show(terminal.first_rows_view(result.table, room, result.shown))
        if not self.to_errors:
            lines = [written_line(one) for one in outcome.written]
            advice = [*following(outcome, reference, self.reading), *map(str, account.advice)]
            self.show(
                terminal.ending_view(
                    lines, advice, outcome.compared, rehearsal=rehearsal_words(outcome) if rehearses else "",
                    not_drawn=bool(outcome.not_drawn),
                )
            )  # fmt: skip
        elif outcome.written:
            self.show(terminal.ending_view([written_line(one) for one in outcome.written], []))


def findings_tell(task: Task, kind: str) -> bool:
    """True for notes of the reading that the findings of a check say as well."""
    return task.step.word == "check" and kind in TOLD_BY_FINDINGS


def rehearsal_words(outcome: Outcome) -> str:
    """What was not written, and what would write it."""
    if outcome.task.rehearses:
        return "nothing was written; the same without --rehearse writes it"
    out = said("to" if outcome.task.step.word == "export" else "out", "FILE")
    if outcome.written:
        return f"the table itself was not written; add {out} to write it"
    return f"nothing was written; add {out} to write it"


def written_line(written: Written) -> str:
    """One file that was written, in words."""
    from lomrix.core.table.notes import counted

    if written.rows is None:
        return written.told
    rows, columns = counted(written.rows, "row", "rows"), counted(written.columns or 0, "column", "columns")
    size = f", {written.size:,} bytes" if written.size is not None else ""
    return f"{written.told}  ({rows}, {columns}{size})"


def following(outcome: Outcome, reference: str, reading: Sequence[str]) -> list[str]:
    """Steps that take in what was written, once a person has worked on it."""
    lines = []
    for extra in outcome.task.step.gives:
        if extra.then[0] and any(one.role == extra.name for one in outcome.written):
            file = outcome.task.outputs[extra.name]
            command = proposed(Proposal(extra.then[0], inputs={extra.then[1]: file}), reference, reading)
            lines.append(f"fill in {typed(file)}, then: {command}")
    return lines


def as_json(outcome: Outcome, reference: str, reading: Sequence[str]) -> dict[str, object]:
    """The outcome as plain values."""
    columns: Table = outcome.result.table
    return {
        "account": told_account(outcome.result.account, reference, reading).to_json(),
        "sources": [
            {"path": source, "rows": len(table), "columns": len(table.source_names)}
            for source, table in outcome.sources
        ],
        "notes": [{"source": name, **told_note(note).to_json()} for name, note in outcome.notes],
        "columns": columns.types(),
        "rehearsal": outcome.task.rehearses
        or (outcome.task.step.result == "table" and "out" not in outcome.task.outputs),
        "would_be_written": [listing.to_json() for listing in outcome.beforehand],
        "written": [one.told for one in outcome.written],
        "compared_cells": outcome.compared,
    }
