"""The program `lomrix`: its commands in their panels.

Nothing here may import NumPy or PyArrow: `lomrix --help` must be quick.
"""

from __future__ import annotations

from typing import Annotated, Any

import typer
from typer.core import TyperGroup

import lomrix
from lomrix.cli.aggregate import aggregate
from lomrix.cli.check import check
from lomrix.cli.correct import correct
from lomrix.cli.deidentify import deidentify
from lomrix.cli.demo import demo
from lomrix.cli.dictionary import app as dictionary
from lomrix.cli.export import export
from lomrix.cli.merge import merge
from lomrix.cli.profile import profile
from lomrix.cli.recode import recode
from lomrix.cli.subset import subset
from lomrix.cli.tally import tally
from lomrix.cli.to_long import to_long


class CommandsInPanels(TyperGroup):
    """The program's help, its commands under the headings of the work they belong to."""

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the commands panel by panel."""
        for panel in dict.fromkeys(panel for panel, *_ in COMMANDS):
            with formatter.section(panel):
                listed = [
                    (name, self.commands[name].get_short_help_str(80)) for at, name, *_ in COMMANDS if at == panel
                ]
                formatter.write_dl(listed, col_max=12)


app = typer.Typer(
    name="lomrix",
    help="Look after the data of a longitudinal study: merge by key, reshape, aggregate, export.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    cls=CommandsInPanels,
    context_settings={"help_option_names": ["--help", "-h"]},
    epilog="Without --out a command is a rehearsal: it shows what it would do and writes nothing.",
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
    """Look after the data of a longitudinal study: merge by key, reshape, aggregate, export."""


COMMANDS = (
    ("Look", "profile", profile, "lomrix profile roster.csv"),
    ("Look", "tally", tally, "lomrix tally roster.csv sex vessel --percent column -d dictionary.toml"),
    ("Clean", "check", check, "lomrix check roster.csv --key crew_id -d dictionary.toml --draft-ledger ledger.csv"),
    ("Clean", "correct", correct, "lomrix correct roster.csv --ledger ledger.csv --out roster_clean.csv"),
    ("Clean", "recode", recode, 'lomrix recode fatigue_m0.csv --map "watch: day=1, night=2, split=3" --out coded.csv'),
    ("Clean", "subset", subset, 'lomrix subset long.csv --columns "crew_id,month,sleep" --where "month in (0, 12)"'),
    (
        "Clean",
        "deidentify",
        deidentify,
        "lomrix deidentify roster.csv --id crew_id --remove name --seed k/seed --linkage k/link.csv --out safe.csv",
    ),
    ("Clean", "dictionary", dictionary, ""),
    ("Combine", "merge", merge, "lomrix merge roster.csv sleep_wide.csv --key crew_id --out crew.csv"),
    (
        "Reshape",
        "to-long",
        to_long,
        'lomrix to-long crew.csv --case crew_id --header "{measure}_m{month}" --out long.csv',
    ),
    ("Compute", "aggregate", aggregate, 'lomrix aggregate long.csv --by vessel,month --stat "sleep: n mean sd"'),
    ("Deliver", "export", export, "lomrix export long.csv --to model.dat --form bare --missing-code auto"),
    ("Repeat", "demo", demo, "lomrix demo demo"),
)
for panel, name, function, example in COMMANDS:
    if isinstance(function, typer.Typer):
        app.add_typer(function, name=name)
        continue
    app.command(name, rich_help_panel=panel, epilog=f"Example: {example}", no_args_is_help=True)(function)


def main() -> None:
    """Run the program."""
    app()
