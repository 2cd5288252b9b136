"""The command `check`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options(out=False)
def check(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to check.")],
    key: Annotated[str, typer.Option("--key", "-k", metavar="COLUMNS", help="Columns that tell every row apart.")] = "",
    case: Annotated[
        str, typer.Option(metavar="COLUMNS", help="Columns that name the case; the key where not said.")
    ] = "",
    draft_ledger: Annotated[
        str, typer.Option("--draft-ledger", metavar="FILE", help="Write the suspicious cells as a ledger to fill in.")
    ] = "",
) -> None:
    """Find what is wrong; exit status 1 where a rule is broken."""
    from lomrix.cli.checking import check_source

    names = [tuple(name.strip() for name in words.split(",") if name.strip()) for words in (key, case)]
    check_source(common, source, names[0], names[1], draft_ledger)
