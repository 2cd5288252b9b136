"""The command `to-wide`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


class IfChanging(StrEnum):
    """What happens where a stated constant changes."""

    STOP = "stop"
    FIRST = "first"
    LAST = "last"
    COMMONEST = "commonest"


class Repeated(StrEnum):
    """What happens to several rows of one case and occasion."""

    STOP = "stop"
    FIRST = "first"
    LAST = "last"
    MEAN = "mean"
    MEDIAN = "median"
    MIN = "min"
    MAX = "max"
    SUM = "sum"


class Order(StrEnum):
    """In which order the new columns stand."""

    MEASURE = "measure"
    OCCASION = "occasion"


@with_common_options()
def to_wide(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The long file, one row per case and occasion.")],
    case: Annotated[str, typer.Option(metavar="COLUMNS", help="The column that names the case.")] = "",
    occasion: Annotated[str, typer.Option(metavar="COLUMNS", help="The column that names the occasion.")] = "",
    header: Annotated[
        str, typer.Option(metavar="TEMPLATE", help="How the new columns are named, such as {measure}_m{month}.")
    ] = "",
    spread: Annotated[
        str, typer.Option(metavar="COLUMNS", help="The measures; without it the columns that change within a case.")
    ] = "",
    constant: Annotated[
        str, typer.Option(metavar="COLUMNS", help="One value per case; with --spread the others are left out.")
    ] = "",
    if_changing: Annotated[IfChanging, typer.Option(help="A stated constant that changes.")] = IfChanging.STOP,
    repeated: Annotated[Repeated, typer.Option(help="Several rows of one case and occasion.")] = Repeated.STOP,
    order: Annotated[Order | None, typer.Option(help="New columns by measure or by occasion.")] = None,
    label_from: Annotated[
        str, typer.Option(metavar="COLUMN", help="The column whose texts label the new columns.")
    ] = "",
    most_columns: Annotated[int, typer.Option(min=1, metavar="N", help="More columns are refused.")] = 10_000,
) -> None:
    """Turn the rows of a case into columns."""
    from lomrix.cli.session import Session
    from lomrix.cli.turning import names_of
    from lomrix.core.steps.to_wide import ToWide

    step = ToWide(
        case=names_of(case),
        occasions=names_of(occasion),
        header=header,
        spread=spread,
        constant=constant,
        if_changing=if_changing.value,
        repeated=repeated.value,
        order=order.value if order is not None else "",
        label_from=label_from,
        most_columns=most_columns,
    )
    Session(common, [source]).run(step)
