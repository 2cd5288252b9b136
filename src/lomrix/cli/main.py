"""The program `lomrix`: its commands in their panels, each loaded when it is called."""

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
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, cast

import typer
from typer.core import TyperCommand, TyperGroup

import lomrix
from lomrix.cli import REPORTING
from lomrix.cli.environment import CURRENT, END_REQUESTS, Environment, OutputLostError, open_closed_streams
from lomrix.cli.supervision import supervise
from lomrix.core.nearest import advise
from lomrix.core.steps.registry import ENTRIES, find_entry
from lomrix.core.wording import join_words

if TYPE_CHECKING:
    from lomrix.core.errors import UsageError

# What Typer raises if the command line is wrong.
WrongLineError: Any = typer.BadParameter.__mro__[1]
AnyLineError: Any = typer.BadParameter.__mro__[2]

STOPPED_MESSAGE = "interrupted; unfinished outputs were not written"
HELP_FILE = Path(__file__).with_name("help.json")
MEMORY_PATTERN = re.compile("MemoryError|failed to map|start new thread|annot allocate|bad_alloc|without exception set")

SETTINGS: dict[str, Any] = {
    "add_completion": False,
    "pretty_exceptions_enable": False,
    "rich_markup_mode": None,
    "context_settings": {"help_option_names": ["--help", "-h"], "max_content_width": 120},
}


@dataclass(frozen=True)
class OtherCommand:
    """A command that is not a step: its panel, name, purpose, module and example."""

    panel: str
    word: str
    purpose: str
    module: str
    example: str = ""


OTHERS = (
    OtherCommand("Clean", "dictionary", "Draft, show or convert a dictionary: labels, codes, limits", "dictionaries"),
    OtherCommand(
        "Repeat",
        "run",
        "Run a plan: steps in a file, run again where something changed",
        "plans",
        "lomrix run study_plan.toml --until visits",
    ),
    OtherCommand(
        "Repeat",
        "history",
        "Show how a file was made, check it, or turn it into a plan",
        "histories",
        "lomrix history out/visits.csv --as-plan study_plan.toml",
    ),
    OtherCommand(
        "Repeat",
        "plan",
        "Write a plan and a study file to start from",
        "plan_new",
        "lomrix plan new roster.csv sleep_wide.csv --out study_plan.toml",
    ),
    OtherCommand("Repeat", "demo", "Write the demo study of the Kittiwake Line", "demo_study", "lomrix demo demo"),
)
# Everyday words for what commands do.
OTHER_WORDS = {
    "profile": "describe show view info summary variables", "tally": "count frequencies crosstab values",
    "coverage": "attrition dropout retention", "check": "clean validate verify", "correct": "fix repair edit",
    "recode": "replace labels", "subset": "filter select keep drop sort sample rows columns",
    "deidentify": "anonymize anonymise pseudonymize", "dictionary": "codebook metadata",
    "merge": "join match link combine lookup", "stack": "append concatenate add",
    "to-long": "long reshape", "to-wide": "wide", "to-balanced": "balance complete fill",
    "derive": "compute calculate rename transform", "score": "scale items", "aggregate": "group mean means average",
    "compare": "test difference", "changes": "differences", "report": "page html", "export": "convert save write",
    "run": "execute repeat", "history": "log provenance",
}  # fmt: skip
PANELS = ("Look", "Clean", "Combine", "Reshape", "Compute", "Deliver", "Repeat")


def list_commands() -> list[tuple[str, str, str]]:
    """List panel, word and purpose of every command, panel by panel."""
    commands = [(command.panel, command.word, command.purpose) for command in (*ENTRIES, *OTHERS)]
    return [command for panel in PANELS for command in commands if command[0] == panel]


class StrictCommand(TyperCommand):
    """A command that refuses a single-valued option given twice, and groups its options under headings."""

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        """List the words after the command's name."""
        arguments = [
            cast(Any, parameter).metavar or parameter.name
            for parameter in self.get_params(ctx)
            if parameter.param_type_name == "argument"
        ]
        return ["[OPTIONS]", *arguments]

    def list_sections(self, ctx: Any) -> list[tuple[str, list[tuple[str, str]]]]:
        """List arguments and options with their help, by heading."""
        groups: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
        for parameter in cast(Any, self.get_params(ctx)):
            if parameter.param_type_name == "argument":
                groups["Arguments"].append((parameter.metavar or parameter.name, parameter.help or ""))
            elif record := parameter.get_help_record(ctx):
                heading = (
                    REPORTING if parameter.name == "help" else getattr(parameter, "rich_help_panel", None) or "Options"
                )
                groups.setdefault(heading, []).append(record)
        return [(heading, records) for heading, records in groups.items() if records]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Write arguments and options."""
        for heading, records in self.list_sections(ctx):
            with formatter.section(heading):
                formatter.write_dl(records)

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Refuse repeated options and words too many, then parse the rest."""
        try:
            _, rest, order = self.make_parser(ctx).parse_args(args=list(args))
        except AnyLineError as error:
            error.ctx = ctx  # which the parser itself does not always know
            raise
        if rest:
            usage = " ".join(self.collect_usage_pieces(ctx)[1:])
            todo = f"It takes {usage}, then options; a text with spaces needs quotation marks, "
            todo += "and an option is repeated for each of its values."
            raise WrongLineError(f"{ctx.info_name} has no place for {', '.join(rest)}.\n{todo}", ctx)
        options = [cast(Any, option) for option in order if option.param_type_name == "option"]
        for option in options:
            if options.count(option) > 1 and not (option.multiple or option.is_flag):
                raise WrongLineError(f"{option.opts[0]} was given {options.count(option)} times.\nGive it once.", ctx)
        return super().parse_args(ctx, args)


class StoredHelp(StrictCommand):
    """A command that shows the stored help of another, so nothing else is loaded."""

    stored: dict[str, Any]

    @classmethod
    def load(cls, word: str, kept: dict[str, Any]) -> StoredHelp:
        """Load the help of one command."""
        command = cls(
            name=word,
            help=kept["help"],
            epilog=kept["epilog"],
            context_settings=SETTINGS["context_settings"],
            rich_markup_mode=None,
        )
        command.stored = kept
        return command

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        """List the words after the command's name."""
        return list(self.stored["usage"])

    def list_sections(self, ctx: Any) -> list[tuple[str, list[tuple[str, str]]]]:
        """List the stored sections."""
        return [(heading, [(name, does) for name, does in records]) for heading, records in self.stored["sections"]]


def get_stored_help(arguments: Sequence[str]) -> str:
    """Return the requested help if it is stored; else an empty string."""
    if not arguments or not {"--help", "-h"} & set(arguments[1:]) or not HELP_FILE.exists():
        return ""
    stored = json.loads(HELP_FILE.read_text(encoding="utf-8")).get(arguments[0])
    if stored is None:
        return ""
    command = StoredHelp.load(arguments[0], stored)
    context: Any = typer.Context(cast(Any, command), info_name=f"lomrix {arguments[0]}", **SETTINGS["context_settings"])
    return f"{cast(Any, command).get_help(context)}\n"


class CommandGroup(TyperGroup):
    """A command that has commands of its own, such as `dictionary draft`."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Find the command, or say which there are."""
        names = self.list_commands(ctx)
        if args and args[0] not in names:
            if len(names) == 1:
                todo = f"Its only command is {names[0]}."
            elif "." in args[0] or "/" in args[0]:
                todo = f"Put {join_words(names, 'or')} before it."
            else:
                todo = advise(args[0], names, f"Its commands are {', '.join(names)}.")
            raise WrongLineError(f"{ctx.info_name} has no command {args[0]}.\n{todo}", ctx)
        return super().resolve_command(ctx, args)


class Program(TyperGroup):
    """Loads a command when it is called, and shows all of them by panel."""

    def list_commands(self, ctx: Any) -> list[str]:
        """List the names of the commands."""
        return [word for _, word, _ in list_commands()]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """Return the command of a name; None if there is none."""
        return load_command(cmd_name)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Find the command, or name the nearest if it is misspelt."""
        if args and self.get_command(ctx, args[0]) is None:
            meant = [word for word, others in OTHER_WORDS.items() if args[0].lower() in others.split()]
            nearest = f"`lomrix {meant[0]} --help`?" if meant else "`lomrix --help` shows them."
            todo = f"Did you mean {nearest}" if meant else advise(args[0], self.list_commands(ctx), nearest)
            raise WrongLineError(f"Unknown command {args[0]}.\n{todo}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the commands panel by panel."""
        for panel in PANELS:
            with formatter.section(panel):
                formatter.write_dl(
                    [(word, does) for panel_, word, does in list_commands() if panel_ == panel], col_max=12
                )


@functools.cache
def load_command(word: str) -> Any:
    """Load the command of a name, once; None if there is none."""
    entry = find_entry(word)
    if entry is not None:
        from lomrix.cli.command import make_function

        return make_command(make_function(entry.load()), entry.word, entry.purpose, entry.example)
    other = next((other_ for other_ in OTHERS if other_.word == word), None)
    return importlib.import_module(f"lomrix.cli.{other.module}").make_command(other) if other else None


def make_command(function: Any, word: str, does: str, example: str) -> Any:
    """Make a command from a function, with its help and an example."""
    program_ = typer.Typer(**SETTINGS)
    add_command(program_, function, word, does, example)
    return typer.main.get_command(program_)


def add_command(group: typer.Typer, function: Any, word: str, does: str, example: str) -> None:
    """Add a command with its help and an example to a group."""
    group.command(word, cls=StrictCommand, epilog=f"Example: {example}", no_args_is_help=True, help=f"{does}.")(
        function
    )


app = typer.Typer(
    name="lomrix",
    help="Look after the data of a longitudinal study: bring in, clean, merge by key, reshape, aggregate, export.",
    no_args_is_help=True,
    cls=Program,
    epilog="Without --out a command is a rehearsal: it shows what it would do and writes nothing.",
    **{**SETTINGS, "add_completion": True},
)


def show_version_and_exit(is_requested: bool) -> None:
    """Show the version and exit."""
    if is_requested:
        typer.echo(f"lomrix {lomrix.__version__}")
        raise typer.Exit


@app.callback()
def start_program(
    show_version: Annotated[
        bool, typer.Option("--version", callback=show_version_and_exit, is_eager=True, help="Show the version.")
    ] = False,
) -> None:
    """Look after the data of a longitudinal study."""


def run(environment: Environment) -> int:
    """Run one command in an environment and return the exit status."""
    token = CURRENT.set(environment)
    try:
        with contextlib.redirect_stdout(environment.stdout), contextlib.redirect_stderr(environment.stderr):
            status = run_command(environment)
            # Data that could not be written were reported already.
            if status != 3 or "-" not in environment.arguments:
                environment.stdout.flush()
        return status
    except OutputLostError as error:
        report_lost_output(error, environment)
        return 3
    except (MemoryError, ImportError, RuntimeError, SystemError, OSError) as error:
        if END_REQUESTS:
            print(STOPPED_MESSAGE, file=environment.stderr)
            return 130
        # The modules that report errors may not be loaded, and may fail to load.
        if not MEMORY_PATTERN.search(f"{type(error).__name__} {error}"):
            raise
        print("error  There is not enough memory to load Lomrix. Nothing was written.", file=environment.stderr)
        print("next   Close other programs, or allow more memory.", file=environment.stderr)
        return 3
    except (typer.Abort, KeyboardInterrupt):
        print(STOPPED_MESSAGE, file=environment.stderr)
        return 130
    finally:
        CURRENT.reset(token)
        if "lomrix.files.object_store" in sys.modules:
            importlib.import_module("lomrix.files.object_store").remove_copies()


def run_command(environment: Environment) -> int:
    """Run what the arguments request, and report what is wrong with them."""
    if text := get_stored_help(environment.arguments):
        print(text, end="", file=environment.stdout)
        return 0
    try:
        status = typer.main.get_command(app).main(
            list(environment.arguments), prog_name="lomrix", standalone_mode=False
        )
        if status == 130:  # Typer's answer to a key press
            raise KeyboardInterrupt
        return status if isinstance(status, int) else 0
    except AnyLineError as error:
        if type(error).__name__ == "NoArgsIsHelpError":
            print(error.format_message(), file=environment.stdout)
        else:
            report_wrong_line(error, environment)
        return 2


def report_wrong_line(error: Any, environment: Environment) -> None:
    """Report what is wrong with the command line."""
    from pydantic import ValidationError

    from lomrix.cli.reporting import Reporter
    from lomrix.core.steps.settings import explain_validation_error

    if isinstance(error.__cause__, ValidationError) and getattr(error, "param", None):
        reported: UsageError = explain_validation_error(error.__cause__, {}, error.param.name)
    else:
        reported = reword_wrong_line(error)
    Reporter(environment, json="--json" in environment.arguments).report_error(reported)


def reword_wrong_line(error: Any) -> UsageError:
    """Return what is wrong with the words of the command line."""
    from lomrix.core.errors import UsageError

    context = getattr(error, "ctx", None)
    what, _, todo = error.format_message().partition("\n")
    if type(error).__name__ == "MissingParameter" and error.param is not None:
        name = error.param.metavar or error.param.name
        what, todo = f"{name} is missing.", f"{name}: {error.param.help}"
    if option_name := getattr(error, "option_name", ""):
        options = {name: option for option in context.command.params for name in option.opts} if context else {}
        argument = options.pop(option_name.removeprefix("--"), None)
        if option_name in options:
            what, todo = f"{option_name} needs a value.", f"{option_name}: {options[option_name].help}"
        elif argument is not None:
            what, todo = f"Unknown option {option_name}.", f"Write the {argument.name} without an option."
        else:
            what, todo = f"Unknown option {option_name}.", advise(option_name, filter(is_option, options), "")
    path = context.command_path if context is not None else "lomrix"
    return UsageError(what, todo=todo or f"`{path} --help` shows the options.")


def is_option(word: str) -> bool:
    """Return whether a word is an option, and no name of an argument."""
    return word.startswith("-")


def report_lost_output(error: OutputLostError, environment: Environment) -> None:
    """Report that the output could not be written."""
    from lomrix.cli.reporting import Reporter
    from lomrix.core.errors import FileError

    todo = "Write the report elsewhere. Outputs are written before the report; check which of them exist."
    Reporter(environment).report_error(FileError("Standard output cannot be written.", where=str(error), todo=todo))


def request_end(number: int, frame: object) -> None:
    """Treat a request to end like an interrupt, so nothing is left behind."""
    END_REQUESTS.append(number)
    raise KeyboardInterrupt


def main() -> None:
    """Run the program."""
    # Loading creates many small objects and no garbage, so collect rarely.
    gc.set_threshold(100_000, 50, 50)
    # Searching for plugins of other packages takes longer than most commands.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    # Its threads would use memory for matrix products that nothing here needs.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    # Numbers beyond the range become missing cells with a note, here and in workers.
    os.environ.setdefault("PYTHONWARNINGS", "ignore::RuntimeWarning")
    warnings.simplefilter("ignore", RuntimeWarning)
    # What fails while memory is cleaned up is no news beside the error itself; `bool` takes it and prints nothing.
    if "LOMRIX_DEBUG" not in os.environ:
        sys.unraisablehook = bool
    open_closed_streams()
    status = supervise(run_process) if sys.platform == "linux" else run_process()
    os._exit(status)


def run_process() -> int:
    """Run what the process was called for, and return the exit status."""
    signal.signal(signal.SIGTERM, request_end)
    status = run(Environment.from_process())
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    return status
