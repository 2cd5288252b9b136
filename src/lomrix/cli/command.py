"""Commands made from steps: the command line becomes a task, which is run and reported."""

from __future__ import annotations

import contextlib
import inspect
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar

import typer
from pydantic import BaseModel

from lomrix.cli.environment import CURRENT, END_REQUESTS, OutputLostError
from lomrix.cli.options import list_step
from lomrix.cli.reporting import Reporter
from lomrix.cli.study import Study, apply_study, find_study
from lomrix.cli.supervision import report_stage
from lomrix.cli.wording import list_options
from lomrix.core.errors import FileError, IdleSettingError, LomrixError
from lomrix.core.steps.step import HelpTopic, Step
from lomrix.files.reading import ReadingOptions
from lomrix.job.budget import RunningOptions
from lomrix.job.memory import OutOfMemoryError, describe_sizes, is_out_of_memory, make_memory_error

if TYPE_CHECKING:
    from lomrix.job.run import Outcome
    from lomrix.job.task import Task

OPTIONS = (ReadingOptions, RunningOptions)
Options = TypeVar("Options", bound=BaseModel)
# The beginning of Python's message for links that form a loop.
LOOP_MESSAGE = "Symlink loop from"


def make_function(step: type[Step]) -> Callable[..., None]:
    """Make the function behind a step's command."""
    parameters = list_step(step, OPTIONS, show_topic)

    def command(**given: Any) -> None:
        voice = make_reporter(given)
        role = step.roles[0].name
        first = given.get(role) or ["FILE"]
        with handle_errors(voice, first if isinstance(first, str) else first[0]):
            run_step(step, given, voice)

    result: Callable[..., None] = set_signature(command, step.word, parameters)
    return result


def show_topic(topic: HelpTopic) -> None:
    """Show what a step explains, and exit."""
    reporter = Reporter(CURRENT.get())
    with handle_errors(reporter):
        reporter.report_listings(topic.load())
        raise typer.Exit


def set_signature(function: Callable[..., None], name: str, parameters: Sequence[inspect.Parameter]) -> Any:
    """Give a function the signature from which Typer reads its options."""
    function.__name__ = name.replace("-", "_").replace(" ", "_")
    vars(function)["__signature__"] = inspect.Signature(parameters)
    function.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    return function


def make_reporter(given: dict[str, Any]) -> Reporter:
    """Make the reporter from the options of a command."""
    to_errors = given.get("out") == "-"
    fields = {**ReadingOptions.model_fields, **RunningOptions.model_fields}
    values = {name: given[name] for name in fields if given.get(name) not in (None, "", [], fields[name].default)}
    reading = tuple(list_options(values))
    return Reporter(CURRENT.get(), bool(given.pop("json", False)), bool(given.pop("quiet", False)), to_errors, reading)


def run_step(step: type[Step], given: dict[str, Any], reporter: Reporter) -> None:
    """Make a task from the command line, run it, and report."""
    if given.get("out") and not given.get("rehearse"):
        from lomrix.files.hashing import begin_large_hashes

        begin_large_hashes(one for role in step.roles for one in as_tuple(given.get(role.name) or ""))
    study, outcome = fill_in_study(step, given), None
    while outcome is None:
        try:
            outcome = run_task(step, given, study, reporter)
        except IdleSettingError as error:
            if error.setting not in study.applied:
                raise
            # A study file is for commands of all kinds.
            study = replace(study, applied=tuple(name for name in study.applied if name != error.setting))
            given[error.setting] = ""
    if "workers" in study.applied:
        outcome = replace(outcome, notes=tuple(pair for pair in outcome.notes if pair[1].kind != "one-part"))
    reporter.report(outcome, study.summary)
    if outcome.result.account.is_broken:
        raise typer.Exit(1)


def run_task(step: type[Step], given: Mapping[str, Any], study: Study, reporter: Reporter) -> Outcome:
    """Make a task from the command line and the study file, and run it.

    Raises IdleSettingError if a setting of the study file does not apply.
    """
    from lomrix.job.run import StoppedError, run

    task = make_task(step, given)
    files = "; ".join(describe_sizes(task.files))
    for name in task.step.idle:
        if name in study.applied:
            raise IdleSettingError(name, f"‹{name}› had no effect.")
    try:
        with reporter.make_progress(len(step.roles) + 2) as progress:

            def begin_stage(words: str, share: float = 0.0) -> None:
                report_stage(f"{words}; {files}")
                progress.stage(words, share)

            return run(task, reporter.environment.make_streams(), begin_stage)
    except StoppedError as stopped:
        reporter.report_stop(stopped.written, stopped.notes)
        raise


def fill_in_study(step: type[Step], given: dict[str, Any]) -> Study:
    """Fill in options from the study file, and return it with those that applied."""
    first = as_tuple(given.get(step.roles[0].name) or "")
    if given.pop("no_study", False) or not first:
        return Study()
    tables = [role.name for role in step.roles if role.content == "table"]
    references = [reference for name in tables for reference in as_tuple(given.get(name) or "")]
    return apply_study(step, given, references, find_study(first[0]))


def make_task(step: type[Step], given: Mapping[str, Any]) -> Task:
    """Make the task from the options by name."""
    from lomrix.job.task import TABLE, Task

    inputs = {role.name: hide_passwords(as_tuple(given[role.name])) for role in step.roles}
    extras = [TABLE, *(extra.name for extra in step.gives)]
    known = {*step.model_fields, *step.former_names}
    return Task(
        step(**{name: value for name, value in given.items() if name in known and value not in ("", [])}),
        {role: references for role, references in inputs.items() if references},
        make_options(ReadingOptions, given),
        {name: hide_passwords((given[name],))[0] for name in extras if given.get(name)},
        given.get("overwrite", False),
        given.get("rehearse", False),
        given.get("missing", "empty"),
        make_options(RunningOptions, given),
    )


def hide_passwords(references: tuple[str, ...]) -> tuple[str, ...]:
    """Replace the passwords in references, which are kept apart: no task holds one."""
    if not any("://" in reference for reference in references):
        return references
    from lomrix.files.database.reference import strip_password

    return tuple(map(strip_password, references))


def make_options(model: type[Options], given: Mapping[str, Any]) -> Options:
    """Check the options that a model has."""
    return model(**{name: given[name] for name in model.model_fields if given.get(name, "") not in ("", [])})


def as_tuple(value: str | Sequence[str]) -> tuple[str, ...]:
    """Return one or several references as a tuple."""
    if isinstance(value, str):
        return (value,) if value else ()
    return tuple(value)


@contextlib.contextmanager
def handle_errors(reporter: Reporter, reference: str = "FILE") -> Iterator[None]:
    """Report any error in plain words, with the exit status of the contract."""
    try:
        yield
    except (typer.Exit, OutputLostError):
        raise
    except Exception as error:
        if END_REQUESTS:
            raise KeyboardInterrupt from error
        if is_out_of_memory(error) and not isinstance(error, OutOfMemoryError):
            error = make_memory_error(error, "this command")
        reported = error if isinstance(error, LomrixError) else explain_unexpected(error)
        reporter.report_error(reported, reference)
        raise typer.Exit(reported.exit_status) from None


def explain_unexpected(error: Exception) -> LomrixError:
    """Explain an error that nothing foresaw; what the system says of a file is about the file."""
    if isinstance(error, OSError) and error.filename is not None:
        # Such as a name that is too long, wherever it was used.
        return FileError(f"{error.filename} cannot be used.", where=str(error.strerror), todo="Check the path.")
    if isinstance(error, RuntimeError) and str(error).startswith(LOOP_MESSAGE):
        where = str(error).removeprefix(LOOP_MESSAGE).strip(" '")
        return FileError("A link leads back to itself.", where=where, todo="Check the path.")
    if os.environ.get("LOMRIX_DEBUG"):
        raise error
    explained = LomrixError(
        f"Unexpected error in Lomrix: {type(error).__name__}: {error}",
        todo="Please report it; LOMRIX_DEBUG=1 shows where it happened. Check which outputs were written.",
    )
    explained.exit_status = 70
    return explained
