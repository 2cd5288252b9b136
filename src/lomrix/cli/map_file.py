"""Maps kept in a file: a table of the columns variable, old and new."""

from __future__ import annotations

from lomrix.core.errors import FileError
from lomrix.core.steps.value_map import Pair, pair_of
from lomrix.files.dictionary_text import rows_of
from lomrix.files.read import ReadSettings
from lomrix.files.source import read_source


def maps_of_file(source: str) -> list[tuple[str, tuple[Pair, ...]]]:
    """The maps in a file, one for each variable.

    Raises
    ------
    FileError
        Where a column is wanting.
    """
    table = read_source(source, ReadSettings(all_text=True)).table
    wanting = [name for name in ("variable", "old", "new") if name not in table.columns]
    if wanting:
        raise FileError(
            f"The map file {source} has no column {wanting[0]}.", todo="Its columns are variable, old, new."
        )
    maps: dict[str, list[Pair]] = {}
    for row in rows_of(table):
        maps.setdefault(row["variable"], []).append(pair_of(row["old"], row["new"]))
    return [(variable, tuple(pairs)) for variable, pairs in maps.items()]
