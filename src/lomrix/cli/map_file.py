"""Maps and pairs kept in a file: tables of the columns variable, old and new."""

from __future__ import annotations

from lomrix.core.errors import FileError, UsageError
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


def pairs_asked(words: list[str], source: str) -> tuple[tuple[str, str], ...]:
    """Pairs of old and new names, as typed and from a file of the columns old and new.

    Raises
    ------
    UsageError
        Where a pair is not clear.
    FileError
        Where the file has no such columns.
    """
    pairs = []
    for word in (part.strip() for text in words for part in text.split(",")):
        old, equals, new = (part.strip() for part in word.partition("="))
        if not equals or not old or not new:
            raise UsageError(f'The pair "{word}" is not clear.', todo="Say --pair old_name=new_name.")
        pairs.append((old, new))
    if source:
        table = read_source(source, ReadSettings(all_text=True)).table
        if not {"old", "new"} <= set(table.names):
            raise FileError(f"The pairing file {source} has no columns old and new.", todo="Its columns are old, new.")
        pairs += [(row["old"], row["new"]) for row in rows_of(table)]
    return tuple(pairs)
