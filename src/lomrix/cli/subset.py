"""The command `subset`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options()
def subset(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to choose from.")],
    columns: Annotated[str, typer.Option(metavar="COLUMNS", help="Keep these columns, in this order.")] = "",
    without: Annotated[str, typer.Option(metavar="COLUMNS", help="Leave these columns out; out wins over kept.")] = "",
    where: Annotated[str, typer.Option(metavar="EXPRESSION", help="Keep rows for which this is true.")] = "",
) -> None:
    """Choose columns and rows."""
    from lomrix.cli.session import Session
    from lomrix.core.steps.subset import Subset

    Session(common, [source]).run(Subset(columns=columns, without=without, where=where))
