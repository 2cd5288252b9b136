"""The command `tally`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


class Percent(StrEnum):
    """Per cents of a cross-count."""

    NONE = "none"
    ROW = "row"
    COLUMN = "column"


@with_common_options()
def tally(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to count in.")],
    variables: Annotated[list[str], typer.Argument(metavar="VAR [VAR]", help="One variable, or two to cross them.")],
    by: Annotated[str, typer.Option(metavar="COLUMNS", help="Count apart for each group.")] = "",
    as_labels: Annotated[bool, typer.Option("--as-labels", help="Show labels in place of codes.")] = False,
    percent: Annotated[Percent, typer.Option(help="Per cents of a cross-count.")] = Percent.NONE,
    figure: Annotated[str, typer.Option(metavar="FILE", help="Draw the counts into a .png, .svg or .pdf.")] = "",
) -> None:
    """Count values, with labels and per cents; missing cells apart."""
    from lomrix.cli.counting import tally_source
    from lomrix.core.steps.tally import Tally

    names = tuple(name.strip() for name in by.split(",") if name.strip())
    step = Tally(variables=tuple(variables), by=names, as_labels=as_labels, share=percent.value)
    tally_source(common, source, step, figure)
