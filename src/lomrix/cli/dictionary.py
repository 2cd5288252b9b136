"""The command `dictionary` with its parts."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options

app = typer.Typer(
    help="Draft, show or convert a dictionary: labels, codes, missing codes, limits.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)


@with_common_options()
def draft(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to describe.")],
    into: Annotated[
        str, typer.Option(metavar="FILE", help="An existing dictionary: its lines are kept, new variables follow them.")
    ] = "",
) -> None:
    """Write a commented dictionary from what is in a file."""
    from lomrix.cli.dictionaries import draft_dictionary

    draft_dictionary(common, source, into)


@with_common_options(writes=False)
def show(
    common: Common,
    source: Annotated[
        str, typer.Argument(metavar="SOURCE", help="A data file, or a dictionary (.toml, or two sheets).")
    ],
) -> None:
    """Show what is known of the variables, and lists of codes that do not fit their data."""
    from lomrix.cli.dictionaries import show_dictionary

    show_dictionary(common, source)


@with_common_options(reads=False)
def convert(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="DICTIONARY", help="A .toml file, a workbook, or a csv file.")],
) -> None:
    """Turn a dictionary into TOML, a workbook of two sheets, or two csv files."""
    from lomrix.cli.dictionaries import convert_dictionary

    convert_dictionary(common, source)


EXAMPLES = {
    draft: "lomrix dictionary draft roster.csv --out dictionary.toml",
    show: "lomrix dictionary show crew.csv",
    convert: "lomrix dictionary convert dictionary.toml --out dictionary.xlsx",
}
for function, example in EXAMPLES.items():
    app.command(function.__name__, epilog=f"Example: {example}", no_args_is_help=True)(function)
