"""The command `aggregate`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options()
def aggregate(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file whose rows are put together.")],
    by: Annotated[str, typer.Option(metavar="COLUMNS", help="The columns whose values make the groups.")],
    stat: Annotated[
        list[str],
        typer.Option(metavar="'COLUMNS: WORDS'", help="Statistics wanted: n missing mean sd median min max sum."),
    ] = [],  # noqa: B006 - typer reads the default, nobody changes it
    attach: Annotated[bool, typer.Option("--attach", help="Put the statistics beside every row instead.")] = False,
    min_n: Annotated[
        int, typer.Option(min=0, metavar="N", help="Statistics of fewer values are missing, too-few.")
    ] = 0,
) -> None:
    """Compute statistics of groups: one row per group."""
    from lomrix.cli.session import Session
    from lomrix.core.steps.aggregate import Aggregate, statistics_asked

    names = tuple(name.strip() for name in by.split(",") if name.strip())
    Session(common, [source]).run(Aggregate(by=names, statistics=statistics_asked(stat), least=min_n, attach=attach))
