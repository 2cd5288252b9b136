"""Merge sources, and write what was asked for besides: unmatched keys, and cells in which files differ."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.errors import UsageError
from lomrix.core.steps.merge import Merge
from lomrix.core.steps.merge_result import Merged
from lomrix.core.steps.overlap import DisagreementError
from lomrix.core.table.table import Table
from lomrix.files.target import Target
from lomrix.files.text_writer import write_columns
from lomrix.show.terminal import console


def merge_sources(common: Common, sources: Sequence[str], step: Merge, unmatched: str, conflicts: str) -> None:
    """Merge, tell, and write."""
    places = {name: side_target(common, name, sources) for name in (unmatched, conflicts) if name}
    try:
        result = Session(common, sources).run(step)
    except DisagreementError as error:
        if conflicts and error.ledger is not None:
            write_beside(common, places[conflicts], error.ledger)
        raise
    assert isinstance(result, Merged)
    for name, table in ((unmatched, result.unmatched), (conflicts, result.conflicts)):
        if name and table is not None:
            write_beside(common, places[name], table)


def side_target(common: Common, name: str, sources: Sequence[str]) -> Target:
    """A checked place for one of the files besides."""
    if Path(name).suffix.lower() != ".csv":
        raise UsageError(
            f"{Path(name).name} is no .csv file.", todo="Unmatched keys and conflicts are written as .csv."
        )
    return Target.checked(name, sources, overwrite=common.overwrite)


def write_beside(common: Common, place: Target, table: Table) -> None:
    """Write a plain table of texts, and say so."""

    def fill(part: Path) -> dict[Path, bytes]:
        write_columns(table.columns, {}, part, ",")
        return {}

    place.write(fill)
    if not common.quiet and not common.json:
        console(to_standard_error=common.out == "-").print(f"written  {place.path}  ({len(table):,} rows)")
