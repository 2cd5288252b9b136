"""The command `correct`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options()
def correct(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to correct; it is not changed.")],
    ledger: Annotated[str, typer.Option(metavar="FILE", help="Corrections: key, variable, old, new, action, why, by.")],
    notes: Annotated[str, typer.Option(metavar="NAME", help="Column that comments in cells are moved to.")] = "notes",
    partly: Annotated[bool, typer.Option("--partly", help="Go on where rows of the ledger are refused.")] = False,
) -> None:
    """Apply a ledger of corrections, each only where the old value is what the file holds."""
    from lomrix.cli.session import Session
    from lomrix.core.steps.correct import Correct

    Session(common, [source, ledger], all_text=frozenset({1})).run(Correct(notes=notes, partly=partly))
