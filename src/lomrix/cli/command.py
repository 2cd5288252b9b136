"""Commands made from steps: what is typed becomes a task, which is run and told."""

from __future__ import annotations

import contextlib
import inspect
import os
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import typer

from lomrix.cli.face import settings_typed
from lomrix.cli.options import of_step
from lomrix.cli.report_stream import OutputLostError
from lomrix.cli.study import Study, found_study, with_study
from lomrix.cli.supervision import tell_watcher
from lomrix.cli.surroundings import ASKED_TO_END, CURRENT
from lomrix.cli.telling import Voice
from lomrix.core.errors import FileError, LomrixError
from lomrix.core.steps.step import Aside, Step
from lomrix.files.reading import ReadingOptions
from lomrix.job.memory import OutOfMemoryError, out_of_memory, ran_out, sizes_of

# How Python says that links lead in a circle.
LOOP = "Symlink loop from"


def function_of(step: type[Step]) -> Callable[..., None]:
    """The function behind a step's command."""
    parameters = of_step(step, ReadingOptions, tell_aside)

    def command(**given: Any) -> None:
        voice = voice_of(given)
        role = step.roles[0].name
        first = given.get(role) or ["FILE"]
        with told_errors(voice, first if isinstance(first, str) else first[0]):
            run_step(step, given, voice)

    made: Callable[..., None] = with_signature(command, step.word, parameters)
    return made


def tell_aside(aside: Aside) -> None:
    """Show what a step explains, and stop."""
    voice = Voice(CURRENT.get())
    with told_errors(voice):
        voice.tell_listings(aside.listings())
        raise typer.Exit


def with_signature(function: Callable[..., None], name: str, parameters: Sequence[inspect.Parameter]) -> Any:
    """A function with a signature of its own, from which Typer reads its options."""
    function.__name__ = name.replace("-", "_").replace(" ", "_")
    vars(function)["__signature__"] = inspect.Signature(parameters)
    function.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    return function


def voice_of(given: dict[str, Any]) -> Voice:
    """How the command is to tell, from its options."""
    to_errors = given.get("out") == "-"
    fields = ReadingOptions.model_fields
    said = {name: given[name] for name in fields if given.get(name) not in (None, "", [], fields[name].default)}
    reading = tuple(settings_typed(said))
    return Voice(CURRENT.get(), bool(given.pop("json", False)), bool(given.pop("quiet", False)), to_errors, reading)


def run_step(step: type[Step], given: dict[str, Any], voice: Voice) -> None:
    """Make a task of what was typed, run it, and tell.

    Raises
    ------
    LomrixError
        Where it could not be done.
    typer.Exit
        With status 1 where it was done, and found a rule broken.
    """
    if given.get("out") and not given.get("rehearse"):
        from lomrix.files.hashing import begin_large_hashes

        begin_large_hashes(one for role in step.roles for one in listed(given.get(role.name) or ""))
    from lomrix.job.run import StoppedError, run
    from lomrix.job.task import TABLE, Task
    from lomrix.show.progress import Progress

    study = Study()
    first = listed(given.get(step.roles[0].name) or "")
    if not given.pop("no_study", False) and first:
        tables = [role.name for role in step.roles if role.content == "table"]
        references = [one for name in tables for one in listed(given.get(name) or "")]
        study = with_study(step, given, references, found_study(first[0]))
    inputs = {role.name: kept_secrets(listed(given.pop(role.name))) for role in step.roles}
    reading = {name: given.pop(name) for name in ReadingOptions.model_fields}
    names = [TABLE, *(extra.name for extra in step.gives)]
    outputs = {name: kept_secrets((given.pop(name),))[0] for name in names if given.get(name)}
    overwrite, missing = given.pop("overwrite", False), given.pop("missing", "empty")
    rehearses = given.pop("rehearse", False)
    settings = {name: value for name, value in given.items() if name in step.model_fields and value not in ("", [])}
    task = Task(
        step(**settings),
        {role: references for role, references in inputs.items() if references},
        reading_options(reading),
        outputs,
        overwrite,
        rehearses,
        missing,
    )
    around = voice.surroundings
    watched = around.stderr if around.stderr_is_terminal and not voice.quiet else None
    try:
        with Progress(len(inputs) + 2, watched) as progress:
            files = "; ".join(sizes_of(task.files))

            def stage(words: str) -> None:
                tell_watcher(f"{words}; {files}")
                progress.stage(words)

            outcome = run(task, around.streams(), stage)
    except StoppedError as stopped:
        voice.tell_stop(stopped.written, stopped.notes)
        raise
    voice.tell(outcome, study.line)
    if outcome.result.account.facts.get("broken"):
        raise typer.Exit(1)


def kept_secrets(references: tuple[str, ...]) -> tuple[str, ...]:
    """References without the passwords in them, which are kept apart: no task ever holds one."""
    if not any("://" in one for one in references):
        return references
    from lomrix.files.database.reference import without_password

    return tuple(map(without_password, references))


def reading_options(given: dict[str, Any]) -> ReadingOptions:
    """What was said of the reading, checked as settings are."""
    from pydantic import ValidationError

    from lomrix.core.steps.settings import setting_error

    try:
        return ReadingOptions(**{name: value for name, value in given.items() if value not in ("", [])})
    except ValidationError as error:
        raise setting_error(error, ReadingOptions.model_fields) from error


def listed(value: str | Sequence[str]) -> tuple[str, ...]:
    """One reference or several as a tuple."""
    if isinstance(value, str):
        return (value,) if value else ()
    return tuple(value)


@contextlib.contextmanager
def told_errors(voice: Voice, reference: str = "FILE") -> Iterator[None]:
    """Whatever goes wrong is told in plain words, with the exit status of the contract."""
    try:
        yield
    except (typer.Exit, OutputLostError):
        raise
    except Exception as error:
        if ASKED_TO_END:
            raise KeyboardInterrupt from error
        if ran_out(error) and not isinstance(error, OutOfMemoryError):
            error = out_of_memory(error, "this command")
        told = error if isinstance(error, LomrixError) else unexpected(error)
        voice.tell_error(told, reference)
        raise typer.Exit(told.exit_status) from None


def unexpected(error: Exception) -> LomrixError:
    """An error that nothing foresaw, in plain words; what the system says of a file is the file's and not ours."""
    if isinstance(error, OSError) and error.filename is not None:
        # Wherever it was said, such as of a name that is too long.
        return FileError(f"{error.filename} cannot be used.", where=str(error.strerror), todo="Check the path.")
    if isinstance(error, RuntimeError) and str(error).startswith(LOOP):
        where = str(error).removeprefix(LOOP).strip(" '")
        return FileError("A link leads back to itself.", where=where, todo="Check the path.")
    if os.environ.get("LOMRIX_DEBUG"):
        raise error
    told = LomrixError(
        f"Lomrix met something that it did not expect: {type(error).__name__}: {error}",
        todo="Please report it; LOMRIX_DEBUG=1 shows where it happened. Check whether outputs are there.",
    )
    told.exit_status = 70
    return told
