"""The command `deidentify`."""

from __future__ import annotations

from typing import Annotated

import typer

from lomrix.cli.options import Common, with_common_options


@with_common_options()
def deidentify(
    common: Common,
    source: Annotated[str, typer.Argument(metavar="SOURCE", help="The file that names people.")],
    id_: Annotated[str, typer.Option("--id", metavar="COLUMN", help="The id column; it gets new ids.")],
    linkage: Annotated[str, typer.Option(metavar="FILE", help="Where the way back is written, for your eyes only.")],
    seed: Annotated[
        str, typer.Option(metavar="FILE", help="Secret file that the new ids come from; made where there is none.")
    ],
    remove: Annotated[str, typer.Option(metavar="COLUMNS", help="Columns to take out, such as names.")] = "",
    keyed_hash: Annotated[
        bool, typer.Option("--keyed-hash", help="New ids are keyed hashes: alike in every file.")
    ] = False,
    shift: Annotated[str, typer.Option(metavar="COLUMNS", help="Dates to move, each case by its own days.")] = "",
    coarsen: Annotated[
        list[str], typer.Option(metavar="COLUMN=YEARS", help="Age bands of so many years in place of a date of birth.")
    ] = [],  # noqa: B006 - typer reads the default, nobody changes it
    on_day: Annotated[str, typer.Option(metavar="DATE", help="Day on which those ages are reckoned.")] = "",
    quasi: Annotated[
        str, typer.Option(metavar="COLUMNS", help="Tell the smallest groups of these columns together.")
    ] = "",
    same_folder: Annotated[
        bool, typer.Option("--same-folder", help="Let linkage and data stand in one folder.")
    ] = False,
) -> None:
    """Take away what names a person; the way back is written apart."""
    from lomrix.cli.unnaming import Wish, deidentify_source

    wish = Wish(id_, remove, keyed_hash, shift, tuple(coarsen), on_day, quasi)
    deidentify_source(common, source, wish, linkage, seed, same_folder=same_folder)
