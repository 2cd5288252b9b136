"""The command `export`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, MissingCode, with_common_options


class Form(StrEnum):
    """Forms of an exported file."""

    HEADED = "headed"
    BARE = "bare"


@with_common_options(out=False)
def export(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to export.")],
    to: Annotated[str, typer.Option("--to", metavar="DEST", help="Write it here; without it nothing is written.")] = "",
    form: Annotated[
        Form, typer.Option(help="headed: names on top. bare: only numbers, no header, one missing code.")
    ] = Form.HEADED,
    columns: Annotated[str, typer.Option(metavar="COLUMNS", help="Which columns go out, in this order.")] = "",
    missing_code: MissingCode = [],  # noqa: B006 - typer reads the default, nobody changes it
) -> None:
    """Write a file for another program, with missing values recoded."""
    from lomrix.cli.delivery import deliver
    from lomrix.core.steps.prepare_export import PrepareExport

    deliver(common, source, to, PrepareExport(form=form.value, missing_code=tuple(missing_code), columns=columns))
