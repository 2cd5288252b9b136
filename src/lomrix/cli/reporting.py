"""Report the outcome of a task to a person, or as JSON to a script."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from lomrix.cli.environment import Environment
from lomrix.cli.wording import (
    TypedCommand,
    format_account,
    format_error,
    format_listing,
    format_note,
    format_proposal,
    format_setting,
    quote_word,
)
from lomrix.core.errors import LomrixError, Proposal
from lomrix.show.numbers import CONTROL, escape_controls

if TYPE_CHECKING:
    from rich.console import RenderableType

    from lomrix.core.steps.account import Listing
    from lomrix.core.table.notes import Note
    from lomrix.core.table.table import Table
    from lomrix.job.outputs import WrittenFile
    from lomrix.job.run import Outcome
    from lomrix.show.progress import Progress


@dataclass(frozen=True)
class Reporter:
    """What is reported, and where; with `to_errors`, standard output belongs to the data."""

    environment: Environment
    json: bool = False
    quiet: bool = False
    to_errors: bool = False
    reading: tuple[str, ...] = ()

    def print_json(self, content: object) -> None:
        """Print JSON for a script."""
        stream = self.environment.stderr if self.to_errors else self.environment.stdout

        # Control characters other than line ends are escaped as JSON.
        lines = json.dumps(content, ensure_ascii=False, indent=1).split("\n")
        print(
            "\n".join(CONTROL.sub(lambda character: f"\\u{ord(character[0]):04x}", line) for line in lines), file=stream
        )

    def make_progress(self, stages: int) -> Progress:
        """Make a progress bar, which is drawn only for a person who watches."""
        from lomrix.show.progress import Progress

        is_watched = self.environment.stderr_is_terminal and not self.quiet
        return Progress(stages, self.environment.stderr if is_watched else None)

    def show(self, *views: RenderableType, soft_wrap: bool = False) -> None:
        """Show something to a person."""
        console = self.environment.make_screen(errors=self.to_errors).make_console()
        for view in views:
            console.print(view, soft_wrap=soft_wrap, crop=False)  # a command longer than the window is one line

    def report_error(self, error: LomrixError, reference: str = "FILE") -> None:
        """Report an error on standard error, or as JSON on standard output."""
        formatted = format_error(error, TypedCommand({"source": (reference,)}, self.reading))
        if self.json:
            content = formatted.to_json()
            if notes := getattr(error, "notes", ()):
                content["notes"] = [{"source": name, **format_note(note).to_json()} for name, note in notes]
            self.print_json({"error": content, "status": formatted.exit_status})
            return
        from lomrix.show.terminal import view_error

        console = self.environment.make_screen(errors=True).make_console()
        # Lines are wrapped in a terminal, but not in a file.
        console.print(view_error(formatted), soft_wrap=not self.environment.stderr_is_terminal, crop=False)

    def report_stop(self, written: Sequence[WrittenFile], notes: Sequence[tuple[str, Note]]) -> None:
        """Report what an error leaves behind, and what to look at, before the error itself."""
        if self.json or self.quiet:
            return
        from lomrix.show import terminal

        if written:
            self.show(terminal.view_ending([format_written(file) for file in written], []))
        if notes:
            formatted = [(name, format_note(note)) for name, note in notes]
            replace(self, to_errors=True).show(terminal.view_notes(formatted))

    def report(self, outcome: Outcome, study: str = "") -> None:
        """Report the outcome of a task, and what of the study file applied."""
        typed = TypedCommand(outcome.task.inputs, self.reading, outcome.task.step)
        if self.json:
            self.print_json({**to_json(outcome, typed), **({"study": study} if study else {})})
        elif not self.quiet:
            if study:
                from rich.text import Text

                self.show(Text(f"study  {escape_controls(study)}", style="dim"))
            self._report_to_person(outcome, typed)

    def report_listings(self, listings: Sequence[Listing]) -> None:
        """Show some listings, and nothing else."""
        from lomrix.show import terminal

        width = self.environment.make_screen(errors=self.to_errors).usable_width
        for listing in listings:
            self.show(terminal.view_listing(format_listing(listing), width))

    def _report_to_person(self, outcome: Outcome, typed: TypedCommand) -> None:
        from lomrix.core.table.notes import pluralize
        from lomrix.show import terminal

        task, result = outcome.task, outcome.result
        sources = [
            f"{source}: {pluralize(len(table), 'row')}, {pluralize(len(table.source_names), 'column')}"
            for source, table in outcome.sources
        ]
        notes = [(name, format_note(note)) for name, note in outcome.notes if note.kind not in task.step.repeats_notes]
        account = format_account(result.account, typed)
        width = self.environment.make_screen(errors=self.to_errors).usable_width
        self.show(terminal.view_account(account, sources, notes, width))
        has_table = task.step.result in ("table", "page")
        is_rehearsal = task.rehearses or (has_table and "out" not in task.outputs)
        for listing in outcome.preview:
            self.show(terminal.view_listing(format_listing(listing), width))
        if is_rehearsal and task.step.result == "table":
            self.show(terminal.view_first_rows(result.table, width, result.shown))
        if not self.to_errors:
            lines = [format_written(file) for file in outcome.written]
            advice = [*list_following(outcome, typed), *propose_reading(outcome, typed), *map(str, account.advice)]
            self.show(
                terminal.view_ending(
                    lines,
                    advice,
                    outcome.compared,
                    rehearsal_message=describe_rehearsal(outcome) if is_rehearsal else "",
                    not_drawn=bool(outcome.not_drawn),
                )
            )
        elif outcome.written:
            self.show(terminal.view_ending([format_written(file) for file in outcome.written], []))


def describe_rehearsal(outcome: Outcome) -> str:
    """Say what was not written, and how to write it."""
    if outcome.task.rehearses:
        return "Nothing was written. Run again without --rehearse to write it."
    setting = format_setting("to" if outcome.task.step.delivers else "out", "FILE")
    if outcome.written:
        return f"The table was not written. Add {setting} to write it."
    return f"Nothing was written. Add {setting} to write it."


def format_written(written: WrittenFile) -> str:
    """Format one file that was written."""
    from lomrix.core.table.notes import pluralize

    if written.rows is None:
        return written.description
    rows, columns = pluralize(written.rows, "row"), pluralize(written.columns or 0, "column")
    size = f", {written.size:,} bytes" if written.size is not None else ""
    return f"{written.description}  ({rows}, {columns}{size})"


def list_following(outcome: Outcome, typed: TypedCommand) -> list[str]:
    """List steps that read what was written, once a person has edited it."""
    lines = []
    for extra in outcome.task.step.gives:
        if extra.then[0] and any(file.role == extra.name for file in outcome.written):
            path = outcome.task.outputs[extra.name]
            words = f"fill in {quote_word(path)}, then"
            lines.append(format_proposal(Proposal(extra.then[0], inputs={extra.then[1]: path}, words=words), typed))
    return lines


def propose_reading(outcome: Outcome, typed: TypedCommand) -> list[str]:
    """Propose the same command with what the notes on its file, or on all of its files alike, would read otherwise."""
    if typed.first_input == "-":
        return []
    by_source: dict[str, dict[tuple[str, str], None]] = {table.name: {} for _, table in outcome.sources}
    for source, note in outcome.notes:
        by_source.setdefault(source, {}).update(dict.fromkeys(note.reading))
    proposed = list(next(iter(by_source.values()), {}))
    if any(set(others) != set(proposed) for others in by_source.values()):
        return []
    once = [name for name, _ in proposed if name != "type"]
    are_both = {("thousands", ","), ("decimal", ",")} <= {*proposed}
    if not proposed or len(set(once)) < len(once) or are_both:
        return []
    options = [format_setting(name, value) for name, value in proposed]
    replaced = {option.partition("=")[0] for option in options if option.startswith("--type ")}
    kept = [option for option in typed.reading if option.partition("=")[0] not in replaced and option not in options]
    words = "to read the file as noted"
    assert typed.step is not None
    return [format_proposal(Proposal(typed.step.word, words=words), replace(typed, reading=[*kept, *options]))]


def to_json(outcome: Outcome, typed: TypedCommand) -> dict[str, object]:
    """Convert the outcome to plain values."""
    columns: Table = outcome.result.table
    return {
        "account": format_account(outcome.result.account, typed).to_json(),
        "sources": [
            {"path": source, "rows": len(table), "columns": len(table.source_names)}
            for source, table in outcome.sources
        ],
        "notes": [{"source": name, **format_note(note).to_json()} for name, note in outcome.notes],
        "columns": columns.types(),
        "rehearsal": outcome.task.rehearses
        or (outcome.task.step.result == "table" and "out" not in outcome.task.outputs),
        "would_be_written": [listing.to_json() for listing in outcome.preview],
        "written": [file.description for file in outcome.written],
        "compared_cells": outcome.compared,
    }
