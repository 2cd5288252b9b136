"""The command `to-long`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options()
def to_long(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The wide file, one row per case.")],
    header: Annotated[
        str,
        typer.Option(metavar="TEMPLATE", help="How the columns are named, such as {measure}_m{month}."),
    ],
    case: Annotated[str, typer.Option(metavar="COLUMNS", help="The column that names the case.")] = "",
    constant: Annotated[str, typer.Option(metavar="COLUMNS", help="Carry only these of the other columns.")] = "",
    keep_empty: Annotated[bool, typer.Option("--keep-empty", help="Keep rows in which nothing was measured.")] = False,
) -> None:
    """Turn repeated columns into one row per case and occasion."""
    from lomrix.cli.session import Session
    from lomrix.core.steps.to_long import ToLong

    names = tuple(name.strip() for name in case.split(",") if name.strip())
    Session(common, [source]).run(ToLong(header=header, case=names, constant=constant, keep_empty=keep_empty))
