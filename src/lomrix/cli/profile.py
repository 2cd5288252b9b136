"""The command `profile`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


class Sort(StrEnum):
    """Order of the columns."""

    FILE = "file"
    NAME = "name"


@with_common_options()
def profile(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to look at.")],
    sort: Annotated[Sort, typer.Option(help="Columns in file order, or by name.")] = Sort.FILE,
    as_labels: Annotated[bool, typer.Option("--as-labels", help="Show labels in place of codes.")] = False,
) -> None:
    """Show what is in a file: keys, types, missing cells, ranges, labels."""
    from lomrix.cli.session import Session
    from lomrix.core.steps.profile import Profile

    Session(common, [source]).run(Profile(sort=sort.value, as_labels=as_labels), is_report=True)
