"""The command `run`: a plan is checked, shown, or run."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NoReturn

import typer

from lomrix.cli.command import told_errors, voice_of, with_signature
from lomrix.cli.main import Other
from lomrix.cli.options import of_telling, of_writing, parameter
from lomrix.cli.telling import Voice
from lomrix.core.errors import LomrixError, UsageError

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account
    from lomrix.plan.plan import Plan
    from lomrix.plan.runner import Fact

FACTS = ("step", "does", "fate", "rows in", "rows out", "left out", "seconds")
# How often a watched file is looked at, in seconds.
PAUSE = 0.5


def command(other: Other) -> Any:
    """The command."""
    from lomrix.cli.main import command as made

    return made(function(), other.word, other.does, other.example)


def function() -> Any:
    """The function behind it."""
    shown = Literal["", "text", "mermaid", "svg"]
    parameters = [
        parameter("plan", str, ..., typer.Argument(metavar="PLAN", help="A plan in TOML.")),
        parameter("set", list[str], [], typer.Option("--set", metavar="NAME=VALUE", help="Value of a parameter.")),
        parameter("until", str, "", typer.Option("--until", metavar="STEP", help="Only what leads to this step.")),
        parameter("from_step", str, "", typer.Option("--from-step", metavar="STEP", help="It and what follows.")),
        parameter("show", shown, "", typer.Option("--show", help="Show the flow and run nothing.")),
        parameter("rehearse", bool, False, typer.Option("--rehearse", help="Do all steps and checks; write nothing.")),
        parameter("fresh", bool, False, typer.Option("--fresh", help="Do everything again, changed or not.")),
        parameter("watch", bool, False, typer.Option("--watch", help="Run again whenever a raw file changes.")),
        parameter("full", bool, False, typer.Option("--full", help="Show the account of every step.")),
        *of_writing(out=False),
        *of_telling(),
    ]  # fmt: skip

    def run(**given: Any) -> None:
        voice = voice_of(given)
        with told_errors(voice, given["plan"]):
            run_plan(voice, given)

    return with_signature(run, "run", parameters)


def run_plan(voice: Voice, given: dict[str, Any]) -> None:
    """Check the plan, then show it or run it.

    Raises
    ------
    typer.Exit
        With the status of the error that stopped it.
    """
    path = Path(given["plan"])
    with contextlib.chdir(path.parent if path.parent.is_dir() else Path()):
        plan = checked(Path(path.name), given)
        if given["show"]:
            show(voice, plan, given["show"])
            return
        if given["watch"]:
            watch(voice, plan, given)
        facts = once(voice, plan, given)
        failed = next((fact for fact in facts if fact.error is not None), None)
        if failed is not None and failed.error is not None:
            raise typer.Exit(failed.error.exit_status)


def checked(path: Path, given: dict[str, Any]) -> Plan:
    """The plan, checked as a whole, and the part of it that is wanted."""
    from lomrix.plan.document import read_document
    from lomrix.plan.plan import planned

    said = {}
    for word in given["set"]:
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise UsageError(f'"{word}" gives no parameter a value.', todo="Say --set wave=12.")
        said[name.strip()] = value.strip()
    return planned(read_document(path, said)).only(given["until"], given["from_step"])


def show(voice: Voice, plan: Plan, form: str) -> None:
    """The flow, in the form that was asked for."""
    from lomrix.core.steps.account import Listing
    from lomrix.plan.flow import as_mermaid, as_svg, as_text

    if form == "text":
        voice.tell_listings([Listing("steps", ("step", "does", "takes", "writes"), tuple(as_text(plan)))])
    else:
        print(as_mermaid(plan) if form == "mermaid" else as_svg(plan), end="", file=voice.surroundings.stdout)


def once(voice: Voice, plan: Plan, given: dict[str, Any]) -> list[Fact]:
    """Run the plan once and tell what became of it."""
    from lomrix.plan.memory import Memory
    from lomrix.plan.runner import Running
    from lomrix.show.progress import Progress

    around = voice.surroundings
    watched = around.stderr if around.stderr_is_terminal and not voice.quiet else None
    with Progress(len(plan.steps), watched) as progress:
        running = Running(plan, Memory(Path()), given["fresh"], given["overwrite"], given["rehearse"], progress.stage)
        facts = running.go()
    tell(voice, plan, facts, given)
    return facts


def tell(voice: Voice, plan: Plan, facts: Sequence[Fact], given: dict[str, Any]) -> None:
    """One table of all steps, what deserves a look, and what stopped the plan."""
    from lomrix.cli.face import in_words

    account = account_of(plan, facts)
    failed = next((fact for fact in facts if fact.error is not None), None)
    if voice.json:
        content: dict[str, object] = {"account": account.to_json()}
        if failed is not None and failed.error is not None:
            content["error"] = {"step": failed.name, "what": failed.error.what, "where": failed.error.where}
        voice.print_json(content)
        return
    if not voice.quiet:
        from lomrix.show.terminal import account_view, ending_view

        room = voice.surroundings.screen().room
        if given["full"]:
            for fact in facts:
                if fact.outcome is not None:
                    voice.show(account_view(fact.outcome.result.account, [], list(fact.outcome.notes), room))
        voice.show(account_view(account, [], [], room))
        written = [one.told for fact in facts if fact.outcome is not None for one in fact.outcome.written]
        words = "nothing was written; the same without --rehearse writes it" if given["rehearse"] else ""
        voice.show(ending_view(written, [], rehearsal=words))
    if failed is not None and failed.error is not None:
        from lomrix.job.run import StoppedError
        from lomrix.plan.document import in_words as in_plan

        error = failed.error
        left = [fact.name for fact in facts if fact.fate == "not run"]
        more = f"Then run the plan again: it goes on with {failed.name}." if not given["rehearse"] else ""
        waits = f" (not run: {', '.join(left)})" if left else ""
        where = "; ".join(part for part in (plan.document.place(plan.steps[failed.name].number), error.where) if part)
        told = LomrixError(f"{failed.name}: {in_plan(error.what)}{waits}", where=where,
                           todo=" ".join(part for part in (in_words(in_plan(error.todo)), more) if part))  # fmt: skip
        told.exit_status = error.exit_status
        if isinstance(error, StoppedError):
            voice.tell_stop(error.written, error.notes)
        voice.tell_error(told)


def account_of(plan: Plan, facts: Sequence[Fact]) -> Account:
    """The account of a run."""
    from lomrix.core.steps.account import Account, Balance, Listing
    from lomrix.core.table.notes import Note, counted

    fates = {fate: sum(fact.fate == fate for fact in facts) for fate in ("done", "unchanged", "failed", "not run")}
    rows = tuple(
        (fact.name, fact.word, fact.fate, *numbers(fact), round(fact.seconds, 2) if fact.fate != "not run" else None)
        for fact in facts
    )
    looks = [
        (fact.name, note)
        for fact in facts
        if fact.outcome is not None
        for note in [*(note for _, note in fact.outcome.notes), *fact.outcome.result.account.notes]
        if not note.done
    ]
    notes = [
        Note(
            f"{counted(sum(one == name for one, _ in looks), 'thing', 'things')} to look at: say --full.",
            name,
            kind="looks",
        )
        for name in dict.fromkeys(name for name, _ in looks)
    ]
    return Account(
        "run",
        f"{plan.document.path.name}: {fates['done']} of {len(facts)} steps done, {fates['unchanged']} unchanged.",
        (Balance("steps", len(plan.steps), tuple(fates.items()), quiet=True),),
        {"steps": [dict(zip(FACTS, row, strict=True)) for row in rows]},
        (Listing("steps", FACTS, rows),),
        tuple(notes),
    )


def numbers(fact: Fact) -> tuple[int | None, int | None, int | None]:
    """Rows in, out and left out, where the step came to them."""
    if fact.fate in ("failed", "not run"):
        return None, None, None
    return fact.rows_in, fact.rows_out, fact.left_out


def watch(voice: Voice, plan: Plan, given: dict[str, Any]) -> NoReturn:
    """Run the plan, and again whenever it or a raw file of it changes, until somebody interrupts.

    What is wrong for the moment, while a file is being edited or copied, is told and waited for.
    """
    while True:
        seen = moments(plan)  # before the run, so that a change during it counts
        try:
            once(voice, plan, given)
        except LomrixError as error:
            voice.tell_error(error)
        try:
            plan = changed(voice, plan, seen, given)
        except KeyboardInterrupt:
            raise typer.Exit(0) from None  # between two runs this is how watching ends


def changed(voice: Voice, plan: Plan, seen: list[int], given: dict[str, Any]) -> Plan:
    """The plan as it is after the next change that leaves it right."""
    while True:
        while (now := moments(plan)) == seen:
            time.sleep(PAUSE)
        seen = now
        try:
            return checked(plan.document.path, given)
        except LomrixError as error:
            voice.tell_error(error)


def moments(plan: Plan) -> list[int]:
    """When the plan and its raw files were last changed; 0 where there is none."""
    paths = [plan.document.path, *(Path(path.partition("#")[0]) for path in plan.raw)]
    return [path.stat().st_mtime_ns if path.exists() else 0 for path in paths]
