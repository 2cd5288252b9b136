"""The command `recode`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options
from lomrix.core.errors import UsageError


class Others(StrEnum):
    """What happens to values that a map does not name."""

    KEEP = "keep"
    MISSING = "missing"
    REFUSE = "refuse"


class Order(StrEnum):
    """How codes of texts are counted."""

    GIVEN = "given"
    APPEARANCE = "appearance"
    ALPHABET = "alphabet"


@with_common_options()
def recode(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file to recode.")],
    map_: Annotated[
        list[str],
        typer.Option(
            "--map", metavar="'COLUMNS: OLD=NEW, …'", help="Values; also 0 to 9=low, others=high, 99=missing:refused."
        ),
    ] = [],  # noqa: B006 - typer reads the default, nobody changes it
    map_file: Annotated[
        str, typer.Option("--map-file", metavar="FILE", help="Table of columns variable, old, new.")
    ] = "",
    others: Annotated[Others, typer.Option(help="Values that a map does not name.")] = Others.KEEP,
    into: Annotated[
        str, typer.Option(metavar="NAME", help="Put it into a new column; {column} is the old one's name.")
    ] = "",
    to_codes: Annotated[
        str, typer.Option(metavar="COLUMNS", help="Turn texts into codes 1, 2, 3 …, with labels.")
    ] = "",
    order: Annotated[Order, typer.Option(help="How those codes are counted.")] = Order.GIVEN,
    to_labels: Annotated[str, typer.Option(metavar="COLUMNS", help="Put labels in place of codes.")] = "",
    reverse: Annotated[str, typer.Option(metavar="COLUMNS", help="Turn the scores of items round in their span.")] = "",
    span: Annotated[str, typer.Option(metavar="LOW:HIGH", help="Span of the items that are turned round.")] = "",
) -> None:
    """Recode whole values: to other values, codes, labels, or a missing reason."""
    from lomrix.cli.map_file import maps_of_file
    from lomrix.cli.session import Session
    from lomrix.core.steps.recode import Recode
    from lomrix.core.steps.value_map import value_map

    maps = [value_map(text) for text in map_]
    if map_file:
        maps += maps_of_file(map_file)
    step = Recode(
        maps=tuple(maps), others=others.value, into=into, to_codes=to_codes, order=order.value, to_labels=to_labels,
        reverse=reverse, span=span_of(span),
    )  # fmt: skip
    Session(common, [source]).run(step)


def span_of(text: str) -> tuple[float, float] | None:
    """Read `0:3`.

    Raises
    ------
    UsageError
        Where it is not two numbers, the smaller first.
    """
    if not text:
        return None
    try:
        low, high = map(float, text.split(":"))
    except ValueError:
        low, high = 1.0, 0.0
    if low >= high:
        raise UsageError(f'The span "{text}" is not clear.', todo="Say --span 0:3, the lowest score first.")
    return low, high
