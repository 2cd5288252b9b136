"""The command `stack`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, OtherLabels, with_common_options


class Columns(StrEnum):
    """Which columns are kept."""

    ALL = "all"
    SHARED = "shared"


class Repeated(StrEnum):
    """What happens to rows of one case and occasion."""

    STOP = "stop"
    FIRST = "first"
    LAST = "last"
    KEEP = "keep"


@with_common_options()
def stack(
    common: Common,
    sources: Annotated[
        list[str], typer.Argument(metavar="SOURCE…", help="The files, in the order they shall stand in.")
    ],
    mark: Annotated[
        str,
        typer.Option(metavar="NAME=VALUES", help="Mark the rows: wave=0,6, or wave=fatigue_m{wave} from file names."),
    ] = "",
    columns: Annotated[Columns, typer.Option(help="All columns of all files, or only the shared ones.")] = Columns.ALL,
    pair: Annotated[
        list[str], typer.Option(metavar="OLD=NEW", help="A column that is called differently in some files.")
    ] = [],  # noqa: B006 - typer reads the default, nobody changes it
    pair_file: Annotated[str, typer.Option(metavar="FILE", help="Table of columns old, new.")] = "",
    case: Annotated[str, typer.Option(metavar="COLUMNS", help="With the mark, tells every row apart.")] = "",
    repeated: Annotated[Repeated, typer.Option(help="Rows of one case and occasion.")] = Repeated.STOP,
    other_labels: Annotated[OtherLabels, typer.Option(help="One code with different labels.")] = OtherLabels.STOP,
) -> None:
    """Put files under each other: add cases or waves."""
    from pathlib import Path

    from lomrix.cli.map_file import pairs_asked
    from lomrix.cli.session import Session
    from lomrix.core.steps.stack import Stack, marks_asked

    name, marks = marks_asked(mark, [Path(source).stem for source in sources])
    step = Stack(
        mark=name, marks=marks, columns=columns.value, pairs=pairs_asked(pair, pair_file),
        case=tuple(word.strip() for word in case.split(",") if word.strip()), repeated=repeated.value,
        other_labels=other_labels.value,
    )  # fmt: skip
    Session(common, sources).run(step)
