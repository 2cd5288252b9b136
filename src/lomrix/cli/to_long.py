"""The command `to-long`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, OtherLabels, with_common_options


@with_common_options()
def to_long(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The wide file, one row per case.")],
    header: Annotated[
        list[str],
        typer.Option(metavar="TEMPLATE", help="How the columns are named, such as {measure}_m{month}; or several."),
    ] = [],  # noqa: B006 - typer reads the default, nobody changes it
    case: Annotated[str, typer.Option(metavar="COLUMNS", help="The column that names the case.")] = "",
    value_name: Annotated[
        list[str], typer.Option(metavar="NAME", help="The measure's name for a template without {measure}: Y{year}.")
    ] = [],  # noqa: B006
    occasions: Annotated[
        list[str],
        typer.Option(metavar="VALUES", help="True times or order: 0,3,6,12 for columns 1 to 4; before=0,after=12."),
    ] = [],  # noqa: B006
    constant: Annotated[str, typer.Option(metavar="COLUMNS", help="Carry only these of the other columns.")] = "",
    keep_empty: Annotated[bool, typer.Option("--keep-empty", help="Keep rows in which nothing was measured.")] = False,
    guess: Annotated[bool, typer.Option("--guess", help="Without --header: take what the columns look like.")] = False,
    other_labels: Annotated[OtherLabels, typer.Option(help="One code with different labels.")] = OtherLabels.STOP,
    figure: Annotated[
        str, typer.Option(metavar="FILE", help="Draw the measures over the occasions into a .png, .svg or .pdf.")
    ] = "",
) -> None:
    """Turn repeated columns into one row per case and occasion."""
    from lomrix.cli.turning import names_of, turn_to_long
    from lomrix.core.steps.occasions import wishes_of
    from lomrix.core.steps.to_long import ToLong

    step = ToLong(
        headers=tuple(header),
        case=names_of(case),
        value_names=tuple(value_name),
        constant=constant,
        occasions=wishes_of(occasions),
        keep_empty=keep_empty,
        guess=guess,
        other_labels=other_labels.value,
    )
    turn_to_long(common, source, step, figure)
