"""The command `run`: check, show or run a plan."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NoReturn

import typer

from lomrix.cli.command import handle_errors, make_reporter, set_signature
from lomrix.cli.main import OtherCommand
from lomrix.cli.options import list_reporting, list_settings, list_writing, make_parameter
from lomrix.cli.reporting import Reporter
from lomrix.core.errors import LomrixError, UsageError
from lomrix.job.budget import RunningOptions

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account
    from lomrix.plan.plan import Plan
    from lomrix.plan.runner import StepOutcome

OUTCOME_HEADS = ("step", "does", "result", "rows in", "rows out", "left out", "seconds")
# How often watched files are checked.
POLL_SECONDS = 0.5


def make_command(other: OtherCommand) -> Any:
    """Make the command."""
    from lomrix.cli.main import make_command as made

    return made(make_function(), other.word, other.purpose, other.example)


def make_function() -> Any:
    """Make the function behind the command."""
    form = Literal["", "text", "mermaid", "svg"]
    parameters = [
        make_parameter("plan", str, ..., typer.Argument(metavar="PLAN", help="A plan in TOML.")),
        make_parameter("set", list[str], [], typer.Option("--set", metavar="NAME=VALUE", help="Set a parameter.")),
        make_parameter(
            "until", str, "", typer.Option("--until", metavar="STEP", help="Run only what leads to this step.")
        ),
        make_parameter(
            "from_step",
            str,
            "",
            typer.Option("--from-step", metavar="STEP", help="Run only this step and what follows."),
        ),
        make_parameter("show", form, "", typer.Option("--show", help="Show the flow and run nothing.")),
        make_parameter(
            "rehearse", bool, False, typer.Option("--rehearse", help="Run all steps and checks; write nothing.")
        ),
        make_parameter("fresh", bool, False, typer.Option("--fresh", help="Run everything again, changed or not.")),
        make_parameter("watch", bool, False, typer.Option("--watch", help="Run again whenever a raw file changes.")),
        make_parameter("full", bool, False, typer.Option("--full", help="Show the account of every step.")),
        *list_settings(RunningOptions),
        *list_writing(out=False),
        *list_reporting(),
    ]

    def run(**given: Any) -> None:
        reporter = make_reporter(given)
        with handle_errors(reporter, given["plan"]):
            run_plan(reporter, given)

    return set_signature(run, "run", parameters)


def run_plan(reporter: Reporter, given: dict[str, Any]) -> None:
    """Check the plan, then show it or run it."""
    path = Path(given["plan"])
    with contextlib.chdir(path.parent if path.parent.is_dir() else Path()):
        plan = load_plan(Path(path.name), given)
        if given["show"]:
            show_flow(reporter, plan, given["show"])
            return
        if given["watch"]:
            watch(reporter, plan, given)
        outcomes = run_once(reporter, plan, given)
        failed = next((outcome for outcome in outcomes if outcome.error is not None), None)
        if failed is not None and failed.error is not None:
            raise typer.Exit(failed.error.exit_status)


def load_plan(path: Path, given: dict[str, Any]) -> Plan:
    """Check the plan as a whole and select the requested part."""
    from lomrix.plan.document import read_document
    from lomrix.plan.plan import check_plan

    values = {}
    for word in given["set"]:
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise UsageError(f'"{word}" does not set a parameter.', todo="Use the form --set wave=12.")
        values[name.strip()] = value.strip()
    options = RunningOptions.model_fields
    running = {name: given[name] for name in options if given[name] != options[name].default}
    return check_plan(read_document(path, values, running)).select(given["until"], given["from_step"])


def show_flow(reporter: Reporter, plan: Plan, form: str) -> None:
    """Show the flow in the requested form."""
    from lomrix.core.steps.account import Listing
    from lomrix.plan.flow import draw_svg, format_mermaid, list_steps

    if form == "text":
        reporter.report_listings([Listing("steps", ("step", "does", "takes", "writes"), tuple(list_steps(plan)))])
    else:
        print(format_mermaid(plan) if form == "mermaid" else draw_svg(plan), end="", file=reporter.environment.stdout)


def run_once(reporter: Reporter, plan: Plan, given: dict[str, Any]) -> list[StepOutcome]:
    """Run the plan once and report."""
    from lomrix.plan.memory import Memory
    from lomrix.plan.runner import PlanRun

    with reporter.make_progress(len(plan.steps)) as progress:
        run = PlanRun(plan, Memory(Path()), given["fresh"], given["overwrite"], given["rehearse"], progress.stage)
        outcomes = run.run()
    report(reporter, plan, outcomes, given)
    return outcomes


def report(reporter: Reporter, plan: Plan, outcomes: Sequence[StepOutcome], given: dict[str, Any]) -> None:
    """Report one table of all steps, what to look at, and what stopped the plan."""
    from lomrix.cli.wording import format_account, format_note, format_text
    from lomrix.plan.document import format_plan_text as in_plan

    account = make_account(plan, outcomes)
    failed = next((outcome for outcome in outcomes if outcome.error is not None), None)
    if reporter.json:
        content: dict[str, object] = {"account": account.to_json()}
        if failed is not None and failed.error is not None:
            content["error"] = {"step": failed.name, "what": failed.error.what, "where": failed.error.where}
        reporter.print_json(content)
        return
    if not reporter.quiet:
        from lomrix.show.terminal import view_account, view_ending

        room = reporter.environment.make_screen().usable_width
        if given["full"]:
            for outcome in outcomes:
                if outcome.outcome is not None:
                    step_account = format_account(outcome.outcome.result.account, None, in_plan)
                    notes = [(name, format_note(note, in_plan)) for name, note in outcome.outcome.notes]
                    reporter.show(view_account(step_account, [], notes, room))
        reporter.show(view_account(account, [], [], room))
        written = [
            file.description for outcome in outcomes if outcome.outcome is not None for file in outcome.outcome.written
        ]
        message = "Nothing was written. Run again without --rehearse to write it." if given["rehearse"] else ""
        reporter.show(view_ending(written, [], rehearsal_message=message))
    if failed is not None and failed.error is not None:
        from lomrix.job.run import StoppedError

        error = failed.error
        not_run = [outcome.name for outcome in outcomes if outcome.fate == "not run"]
        more = f"Then run the plan again; it continues with {failed.name}." if not given["rehearse"] else ""
        waiting = f" (not run: {', '.join(not_run)})" if not_run else ""
        where = "; ".join(part for part in (plan.document.locate(plan.steps[failed.name].number), error.where) if part)
        todo = " ".join(part for part in (format_text(in_plan(error.todo)), more) if part)
        if isinstance(error, StoppedError):
            reporter.report_stop(error.written, error.notes)
        reporter.report_error(error.reword(f"{failed.name}: {in_plan(error.what)}{waiting}", where, todo))


def make_account(plan: Plan, outcomes: Sequence[StepOutcome]) -> Account:
    """Make the account of a run."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.notes import Note, pluralize

    counts = {
        fate: sum(outcome.fate == fate for outcome in outcomes) for fate in ("done", "unchanged", "failed", "not run")
    }
    rows = tuple(
        (
            outcome.name,
            outcome.word,
            outcome.fate,
            *list_rows(outcome),
            round(outcome.seconds, 2) if outcome.fate != "not run" else None,
        )
        for outcome in outcomes
    )
    to_check = [
        (outcome.name, note)
        for outcome in outcomes
        if outcome.outcome is not None
        for note in [*(note for _, note in outcome.outcome.notes), *outcome.outcome.result.account.notes]
        if not note.done
    ]
    notes = [
        Note(
            f"{pluralize(sum(name_ == name for name_, _ in to_check), 'note')} to look at; use --full to show.",
            name,
            kind="looks",
        )
        for name in dict.fromkeys(name for name, _ in to_check)
    ]
    return Account(
        "run",
        f"{plan.document.path.name}: {counts['done']} of {len(outcomes)} steps done, {counts['unchanged']} unchanged.",
        (),
        {"steps": [dict(zip(OUTCOME_HEADS, row, strict=True)) for row in rows]},
        (Listing("steps", OUTCOME_HEADS, rows),),
        tuple(notes),
    )


def list_rows(outcome: StepOutcome) -> tuple[int | None, int | None, int | None]:
    """List rows in, out and left out; None where the step did not run."""
    if outcome.fate in ("failed", "not run"):
        return None, None, None
    return outcome.rows_in, outcome.rows_out, outcome.left_out


def watch(reporter: Reporter, plan: Plan, given: dict[str, Any]) -> NoReturn:
    """Run the plan, and again whenever it or a raw file changes, until interrupted."""
    while True:
        times = get_modified_times(plan)  # before the run, so that a change during it counts
        try:
            run_once(reporter, plan, given)
        except LomrixError as error:
            reporter.report_error(error)
        try:
            plan = wait_for_change(reporter, plan, times, given)
        except KeyboardInterrupt:
            raise typer.Exit(0) from None  # between two runs this is how watching ends


def wait_for_change(reporter: Reporter, plan: Plan, times: list[int], given: dict[str, Any]) -> Plan:
    """Wait for the next change that leaves the plan valid, and return the plan."""
    while True:
        while (new_times := get_modified_times(plan)) == times:
            time.sleep(POLL_SECONDS)
        times = new_times
        try:
            return load_plan(plan.document.path, given)
        except LomrixError as error:
            reporter.report_error(error)


def get_modified_times(plan: Plan) -> list[int]:
    """List when the plan and its raw files were last changed; 0 for a missing file."""
    paths = [plan.document.path, *(Path(path.partition("#")[0]) for path in plan.raw_files)]
    return [path.stat().st_mtime_ns if path.exists() else 0 for path in paths]
