"""The program `lomrix`: its commands in their panels, each loaded when it is called.

Nothing here may import NumPy, PyArrow, pydantic or a command: `lomrix --help` must be quick.
"""

from __future__ import annotations

import contextlib
import functools
import gc
import importlib
import json
import os
import re
import signal
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, cast

import typer
from typer.core import TyperCommand, TyperGroup

import lomrix
from lomrix.cli.report_stream import OutputLostError, open_closed_streams
from lomrix.cli.supervision import supervised
from lomrix.cli.surroundings import ASKED_TO_END, CURRENT, Surroundings
from lomrix.core.nearest import advice
from lomrix.core.steps.registry import ENTRIES, entry_of

# What Typer raises where the words of a command line are wrong.
WrongLineError: Any = typer.BadParameter.__mro__[1]
AnyLineError: Any = typer.BadParameter.__mro__[2]

STOPPED = "stopped; what was not finished was not written"
KEPT_HELP = Path(__file__).with_name("help.json")
SHORT_OF_MEMORY = re.compile(
    "MemoryError|failed to map|start new thread|annot allocate|bad_alloc|without exception set"
)

SETTINGS: dict[str, Any] = {
    "add_completion": False,
    "pretty_exceptions_enable": False,
    "rich_markup_mode": None,
    "context_settings": {"help_option_names": ["--help", "-h"], "max_content_width": 120},
}


@dataclass(frozen=True)
class Other:
    """A command that is no step: its panel, its name, what it does, the module that has it, and an example."""

    panel: str
    word: str
    does: str
    module: str
    example: str = ""


OTHERS = (
    Other("Clean", "dictionary", "Draft, show or convert a dictionary: labels, codes, limits", "dictionaries"),
    Other(
        "Repeat",
        "run",
        "Run a plan: steps in a file, done again where something changed",
        "plans",
        "lomrix run study_plan.toml --until visits",
    ),
    Other(
        "Repeat",
        "history",
        "Show how a file came about, check it, or make a plan of it",
        "histories",
        "lomrix history out/visits.csv --as-plan study_plan.toml",
    ),
    Other(
        "Repeat",
        "plan",
        "Write a plan and a study file to start from",
        "plan_new",
        "lomrix plan new roster.csv sleep_wide.csv --out study_plan.toml",
    ),
    Other("Repeat", "demo", "Write the demo study of the Kittiwake Line", "demo_study", "lomrix demo demo"),
)
PANELS = ("Look", "Clean", "Combine", "Reshape", "Compute", "Deliver", "Repeat")


def listed() -> list[tuple[str, str, str]]:
    """Panel, word and purpose of every command, panel by panel."""
    every = [(one.panel, one.word, one.does) for one in (*ENTRIES, *OTHERS)]
    return [one for panel in PANELS for one in every if one[0] == panel]


class OneCommand(TyperCommand):
    """A command that refuses an option of one value that is given twice: the later value would hide the earlier.

    Its help shows the options under headings: its own first, then those that many commands have.
    """

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        """The words behind its name, without signs that nobody types."""
        named = [
            cast(Any, one).metavar or one.name for one in self.get_params(ctx) if one.param_type_name == "argument"
        ]
        return ["[OPTIONS]", *named]

    def sections(self, ctx: Any) -> list[tuple[str, list[tuple[str, str]]]]:
        """Arguments and options with what they do, heading by heading."""
        groups: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
        for one in cast(Any, self.get_params(ctx)):
            if one.param_type_name == "argument":
                groups["Arguments"].append((one.metavar or one.name, one.help or ""))
            elif record := one.get_help_record(ctx):
                heading = "The report" if one.name == "help" else getattr(one, "rich_help_panel", None) or "Options"
                groups.setdefault(heading, []).append(record)
        return [(heading, records) for heading, records in groups.items() if records]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Write arguments and options."""
        for heading, records in self.sections(ctx):
            with formatter.section(heading):
                formatter.write_dl(records)

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Check the words, then read them."""
        _, _, order = self.make_parser(ctx).parse_args(args=list(args))
        options = [cast(Any, one) for one in order if one.param_type_name == "option"]
        for one in options:
            if options.count(one) > 1 and not (one.multiple or one.is_flag):
                raise WrongLineError(f"{one.opts[0]} was given {options.count(one)} times.\nGive it once.", ctx)
        return super().parse_args(ctx, args)


class HelpAlone(OneCommand):
    """A command that shows the help of another, as `make docs` kept it: nothing else need be loaded."""

    kept: dict[str, Any]

    @classmethod
    def of(cls, word: str, kept: dict[str, Any]) -> HelpAlone:
        """The help of one command."""
        made = cls(name=word, help=kept["help"], epilog=kept["epilog"], context_settings=SETTINGS["context_settings"],
                   rich_markup_mode=None)  # fmt: skip
        made.kept = kept
        return made

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        """The words behind the command's name."""
        return list(self.kept["usage"])

    def sections(self, ctx: Any) -> list[tuple[str, list[tuple[str, str]]]]:
        """As they were kept."""
        return [(heading, [(name, does) for name, does in records]) for heading, records in self.kept["sections"]]


def help_of(arguments: Sequence[str]) -> str:
    """The help that is asked for, where it was kept; empty where it has to be made."""
    if not arguments or not {"--help", "-h"} & set(arguments[1:]) or not KEPT_HELP.exists():
        return ""
    kept = json.loads(KEPT_HELP.read_text(encoding="utf-8")).get(arguments[0])
    if kept is None:
        return ""
    command = HelpAlone.of(arguments[0], kept)
    context: Any = typer.Context(cast(Any, command), info_name=f"lomrix {arguments[0]}", **SETTINGS["context_settings"])
    return f"{cast(Any, command).get_help(context)}\n"


class Program(TyperGroup):
    """Loads a command when it is called, and shows all of them under the headings of their work."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Names of the commands."""
        return [word for _, word, _ in listed()]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command of a name; None where there is none."""
        return command_named(cmd_name)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """The command that was named; a misspelt one gets the nearest."""
        if args and self.get_command(ctx, args[0]) is None:
            todo = advice(args[0], self.list_commands(ctx), "`lomrix --help` shows them.")
            raise WrongLineError(f"There is no command {args[0]}.\n{todo}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the commands panel by panel."""
        for panel in PANELS:
            with formatter.section(panel):
                formatter.write_dl([(word, does) for one, word, does in listed() if one == panel], col_max=12)


@functools.cache
def command_named(word: str) -> Any:
    """The command of a name, made once though it is asked for at each look at the line; None where there is none."""
    entry = entry_of(word)
    if entry is not None:
        from lomrix.cli.command import function_of

        return command(function_of(entry.step()), entry.word, entry.does, entry.example)
    other = next((one for one in OTHERS if one.word == word), None)
    return importlib.import_module(f"lomrix.cli.{other.module}").command(other) if other else None


def command(function: Any, word: str, does: str, example: str) -> Any:
    """A function as a command with its help and an example."""
    alone = typer.Typer(**SETTINGS)
    add_command(alone, function, word, does, example)
    return typer.main.get_command(alone)


def add_command(group: typer.Typer, function: Any, word: str, does: str, example: str) -> None:
    """Add a function to a group as a command with its help and an example."""
    group.command(word, cls=OneCommand, epilog=f"Example: {example}", no_args_is_help=True, help=f"{does}.")(function)


app = typer.Typer(
    name="lomrix",
    help="Look after the data of a longitudinal study: bring in, clean, merge by key, reshape, aggregate, export.",
    no_args_is_help=True,
    cls=Program,
    epilog="Without --out a command is a rehearsal: it shows what it would do and writes nothing.",
    **{**SETTINGS, "add_completion": True},
)


def version(asked: bool) -> None:
    """Say the version and stop."""
    if asked:
        typer.echo(f"lomrix {lomrix.__version__}")
        raise typer.Exit


@app.callback()
def program(
    show_version: Annotated[
        bool, typer.Option("--version", callback=version, is_eager=True, help="Say the version.")
    ] = False,
) -> None:
    """Look after the data of a longitudinal study."""


def run(surroundings: Surroundings) -> int:
    """Run one command in given surroundings.

    Parameters
    ----------
    surroundings
        Arguments, streams, and what is known of the terminal.

    Returns
    -------
    The exit status.
    """
    token = CURRENT.set(surroundings)
    try:
        with contextlib.redirect_stdout(surroundings.stdout), contextlib.redirect_stderr(surroundings.stderr):
            status = run_command(surroundings)
            # That data could not go out was told, and would be told again.
            if status != 3 or "-" not in surroundings.arguments:
                surroundings.stdout.flush()
        return status
    except OutputLostError as error:
        tell_lost_output(error, surroundings)
        return 3
    except (MemoryError, ImportError, RuntimeError, SystemError, OSError) as error:
        if ASKED_TO_END:
            print(STOPPED, file=surroundings.stderr)
            return 130
        # The parts of the program that tell errors were not loaded yet, or cannot be.
        if not SHORT_OF_MEMORY.search(f"{type(error).__name__} {error}"):
            raise
        print("error  There is not enough memory to load Lomrix. Nothing was written.", file=surroundings.stderr)
        print("next   Close other programs, or allow more memory.", file=surroundings.stderr)
        return 3
    except (typer.Abort, KeyboardInterrupt):
        print(STOPPED, file=surroundings.stderr)
        return 130
    finally:
        CURRENT.reset(token)


def run_command(surroundings: Surroundings) -> int:
    """Run what the arguments say; what is wrong with them is told."""
    if told := help_of(surroundings.arguments):
        print(told, end="", file=surroundings.stdout)
        return 0
    try:
        status = typer.main.get_command(app).main(
            list(surroundings.arguments), prog_name="lomrix", standalone_mode=False
        )
        if status == 130:  # Typer's answer to a key press
            raise KeyboardInterrupt
        return status if isinstance(status, int) else 0
    except AnyLineError as error:
        if type(error).__name__ == "NoArgsIsHelpError":
            print(error.format_message(), file=surroundings.stdout)
        else:
            tell_wrong_line(error, surroundings)
        return 2


def tell_wrong_line(error: Any, surroundings: Surroundings) -> None:
    """Tell what is wrong with the words of the command line."""
    from lomrix.cli.telling import Voice
    from lomrix.core.errors import UsageError

    context = getattr(error, "ctx", None)
    what, _, todo = error.format_message().replace(": Value error, ", ": ").partition("\n")
    if named := getattr(error, "option_name", ""):
        what = f"There is no option {named}."
        todo = advice(named, [one for each in context.command.params for one in each.opts], "") if context else ""
    path = context.command_path if context is not None else "lomrix"
    told = UsageError(what, todo=todo or f"`{path} --help` shows the options.")
    Voice(surroundings, json="--json" in surroundings.arguments).tell_error(told)


def tell_lost_output(error: OutputLostError, surroundings: Surroundings) -> None:
    """Tell that the report could not be told."""
    from lomrix.cli.telling import Voice
    from lomrix.core.errors import FileError

    todo = "Send the report elsewhere. Files that were asked for are written before it; look which of them stand."
    Voice(surroundings).tell_error(FileError("Standard output cannot be written.", where=str(error), todo=todo))


def stop(number: int, frame: object) -> None:
    """A request to end is honoured as a key press is, so that nothing is left behind."""
    ASKED_TO_END.append(number)
    raise KeyboardInterrupt


def main() -> None:
    """Run the program.

    All is written and closed by then; giving back a gigabyte piece by piece would only make a person wait.
    """
    # Loading makes many small objects and no garbage; looking for it now and then is enough.
    gc.set_threshold(100_000, 50, 50)
    # What plugins other packages may have brought is not looked for: that takes longer than most commands.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    # Each of its threads would take memory, for products of matrices that nothing here multiplies.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    open_closed_streams()
    status = supervised(work_of_process) if sys.platform == "linux" else work_of_process()
    os._exit(status)


def work_of_process() -> int:
    """Run what the process was called for; the exit status."""
    signal.signal(signal.SIGTERM, stop)
    status = run(Surroundings.of_process())
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    return status
