"""The command `demo`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options(reads=False, out=False)
def demo(
    common: Common,
    folder: Annotated[str, typer.Argument(metavar="DIR", help="Where to write the demo study.")],
    cases: Annotated[int, typer.Option(min=20, max=50_000_000, metavar="N", help="How many crew members.")] = 400,
) -> None:
    """Write the demo study: crews of the Kittiwake Line, their sleep and fatigue over a year."""
    from lomrix.cli.demo_study import write_demo

    write_demo(common, folder, cases)
