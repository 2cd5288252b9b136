"""The program `lomrix`: its commands in their panels, each loaded when it is called.

Nothing here may import NumPy, PyArrow or a command: `lomrix --help` must be quick.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import sys
from dataclasses import dataclass
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

import lomrix

SETTINGS: dict[str, Any] = {
    "add_completion": False,
    "pretty_exceptions_enable": False,
    "rich_markup_mode": None,
    "context_settings": {"help_option_names": ["--help", "-h"]},
}


@dataclass(frozen=True)
class Entry:
    """A command: its panel, its name, what it does in a few words, and an example."""

    panel: str
    name: str
    does: str
    example: str = ""

    def loaded(self) -> Any:
        """The command itself, from the module and function of its name."""
        word = self.name.replace("-", "_")
        module = importlib.import_module(f"lomrix.cli.{word}")
        if isinstance(getattr(module, "app", None), typer.Typer):
            command: Any = typer.main.get_command(module.app)
            command.name = self.name
            return command
        alone = typer.Typer(**SETTINGS)
        epilog = f"Example: {self.example}"
        alone.command(self.name, epilog=epilog, no_args_is_help=True, help=f"{self.does}.")(getattr(module, word))
        return typer.main.get_command(alone)


ENTRIES = (
    Entry("Look", "profile", "Show what is in a file: keys, types, missing cells, ranges, labels",
          "lomrix profile roster.csv --dictionary dictionary.toml"),
    Entry("Look", "tally", "Count values, with labels and per cents; missing cells apart",
          "lomrix tally roster.csv sex vessel --percent column -d dictionary.toml"),
    Entry("Clean", "check", "Find what is wrong; exit status 1 where a rule is broken",
          "lomrix check roster.csv --key crew_id -d dictionary.toml --draft-ledger ledger.csv"),
    Entry("Clean", "correct", "Apply a ledger of corrections, where the old value still stands",
          "lomrix correct roster.csv --ledger ledger_roster.csv --out roster_clean.csv"),
    Entry("Clean", "recode", "Recode whole values: to others, codes, labels, a missing reason",
          'lomrix recode fatigue_m0.csv --map "watch: day=1, night=2, split=3" --out coded.csv'),
    Entry("Clean", "subset", "Choose columns and rows",
          'lomrix subset long.csv --columns "crew_id,month,sleep" --where "month in (0, 12)"'),
    Entry("Clean", "deidentify", "Take away what names a person; the way back is written apart",
          "lomrix deidentify roster.csv --id crew_id --remove name --seed k/seed --linkage k/link.csv --out safe.csv"),
    Entry("Clean", "dictionary", "Draft, show or convert a dictionary: labels, codes, limits"),
    Entry("Combine", "merge", "Add variables from another file, by key",
          "lomrix merge roster.csv sleep_wide.csv --key crew_id --out crew.csv"),
    Entry("Combine", "stack", "Put files under each other: add cases or waves",
          "lomrix stack fatigue_m0.csv fatigue_m6.csv --mark month=0,6 --case crew_id --out fatigue.csv"),
    Entry("Reshape", "to-long", "Turn repeated columns into one row per case and occasion",
          'lomrix to-long crew.csv --case crew_id --header "{measure}_m{month}" --out long.csv'),
    Entry("Reshape", "to-wide", "Turn the rows of a case into columns, one for each measure and occasion",
          'lomrix to-wide long.csv --case crew_id --occasion month --header "{measure}_m{month}" --out wide.csv'),
    Entry("Compute", "aggregate", "Compute statistics of groups: one row per group",
          'lomrix aggregate long.csv --by vessel,month --stat "sleep: n mean sd"'),
    Entry("Deliver", "export", "Write a file for another program, missing values recoded",
          "lomrix export long.csv --to model.dat --form bare --missing-code auto"),
    Entry("Repeat", "demo", "Write the demo study of the Kittiwake Line", "lomrix demo demo"),
)  # fmt: skip


class Program(TyperGroup):
    """Loads a command when it is called, and shows all of them under the headings of their work."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Names of the commands."""
        return [entry.name for entry in ENTRIES]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command of a name; None where there is none."""
        return next((entry.loaded() for entry in ENTRIES if entry.name == cmd_name), None)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the commands panel by panel."""
        for panel in dict.fromkeys(entry.panel for entry in ENTRIES):
            with formatter.section(panel):
                formatter.write_dl([(entry.name, entry.does) for entry in ENTRIES if entry.panel == panel], col_max=12)


app = typer.Typer(
    name="lomrix",
    help="Look after the data of a longitudinal study: bring in, clean, merge by key, reshape, aggregate, export.",
    no_args_is_help=True,
    cls=Program,
    epilog="Without --out a command is a rehearsal: it shows what it would do and writes nothing.",
    **SETTINGS,
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


def main() -> None:
    """Run the program.

    All is written and closed by then; giving back a gigabyte piece by piece would only make a person wait.
    """
    # Loading makes many small objects and no garbage; looking for it now and then is enough.
    gc.set_threshold(100_000, 50, 50)
    status: Any = 0
    try:
        app()
    except SystemExit as ending:
        status = ending.code
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(BrokenPipeError):
            stream.flush()
    os._exit(status if isinstance(status, int) else 0 if status is None else 1)
