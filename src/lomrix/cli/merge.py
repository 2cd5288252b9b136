"""The command `merge`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from lomrix.cli.options import Common, Key, with_common_options


class Expect(StrEnum):
    """Relationships of keys."""

    ONE_TO_ONE = "one-to-one"
    MANY_TO_ONE = "many-to-one"
    ONE_TO_MANY = "one-to-many"
    MANY_TO_MANY = "many-to-many"


class Rows(StrEnum):
    """Which rows are kept."""

    ALL = "all"
    MATCHED = "matched"
    BASE = "base"


class Overlap(StrEnum):
    """What happens to columns of the same name."""

    CHECK = "check"
    BASE = "base"
    ADDED = "added"
    FILL = "fill"
    BOTH = "both"


class Where(StrEnum):
    """Where the nearest may stand."""

    EITHER = "either"
    BEFORE = "before"
    AFTER = "after"


class Ties(StrEnum):
    """Which of two equally near is taken."""

    BEFORE = "before"
    AFTER = "after"


@with_common_options()
def merge(
    common: Common,
    base: Annotated[str, typer.Argument(metavar="BASE", help="The file that is built on; its row order is kept.")],
    added: Annotated[
        list[str], typer.Argument(metavar="ADDED…", help="Files whose variables are brought to it, in order.")
    ],
    key: Key,
    expect: Annotated[Expect | None, typer.Option(help="The relationship that the keys should have.")] = None,
    rows: Annotated[Rows, typer.Option(help="Rows to keep: all, matched ones only, or those of the base.")] = Rows.ALL,
    overlap: Annotated[
        Overlap, typer.Option(help="Columns that both files have: check that they agree, take one side, or keep both.")
    ] = Overlap.CHECK,
    second_name: Annotated[
        str,
        typer.Option(
            metavar="NAME", help="With --overlap both, the added file's column: {column} and {file} are filled in."
        ),
    ] = "{column}_from_{file}",
    take: Annotated[str, typer.Option(metavar="COLUMNS", help="Which columns of the added file to bring.")] = "",
    status: Annotated[str, typer.Option(metavar="NAME", help="Add a column that says where each row came from.")] = "",
    tidy_keys: Annotated[
        str, typer.Option(metavar="WORDS", help="What does not count in keys: blanks, case, zeros, commas between.")
    ] = "",
    unmatched: Annotated[
        str, typer.Option(metavar="FILE", help="Write all keys without a partner, with likely ones.")
    ] = "",
    near: Annotated[
        str, typer.Option(metavar="COLUMN=COLUMN", help="Match the nearest date or number too: visit_date=drawn_on.")
    ] = "",
    within: Annotated[str, typer.Option(metavar="WINDOW", help="Largest distance: 30d, 6h, 15min, or a number.")] = "",
    side: Annotated[Where, typer.Option(help="Where the nearest may stand.")] = Where.EITHER,
    ties: Annotated[Ties, typer.Option(help="Which of two equally near is taken.")] = Ties.BEFORE,
    once: Annotated[
        bool, typer.Option("--once", help="Leave each added row to the base row it is nearest to.")
    ] = False,
    through: Annotated[
        str, typer.Option(metavar="FILE", help="Links from the base's ids to those of the added file.")
    ] = "",
    most_rows: Annotated[
        int, typer.Option(min=1, metavar="N", help="Largest result of many-to-many keys.")
    ] = 20_000_000,
    conflicts: Annotated[str, typer.Option(metavar="FILE", help="Write cells in which files differ as a ledger.")] = "",
) -> None:
    """Add variables from other files, by key."""
    from lomrix.cli.merging import merge_sources
    from lomrix.core.steps.keys import key_pairs
    from lomrix.core.steps.merge import Merge
    from lomrix.core.steps.nearness import MergeNear, near_asked
    from lomrix.core.steps.tidy import tidy_words

    settings = {
        "key": key_pairs(key), "expect": expect.value if expect else None, "rows": rows.value, "overlap": overlap.value,
        "take": take, "status": status, "tidy": tidy_words(tidy_keys), "list_unmatched": bool(unmatched),
        "through": bool(through), "second_name": second_name, "most_rows": most_rows,
    }  # fmt: skip
    step = Merge.model_validate(settings)
    if near or within:
        asked = near_asked(near, within, side.value, ties.value, once)
        step = MergeNear.model_validate({**settings, "near": asked, "suggest": False})
    merge_sources(common, [base, *added, *([through] if through else [])], step, unmatched, conflicts)
