"""Choosing columns: names, patterns, runs and types."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Collection, Mapping, Sequence

from lomrix.core.errors import UsageError
from lomrix.core.nearest import advise
from lomrix.core.wording import shorten_list

NUMBERED = re.compile(
    r"(?P<stem>.*?)(?P<first>\d+)\.\.(?P<stem2>.*?)(?P<last>\d+)(?P<tail>[^\d/]*)(/(?P<step>[1-9]\d*))?"
)


def unknown_column_error(name: str, names: Sequence[str], table: str) -> UsageError:
    """Make the error for a column that does not exist, suggesting the nearest names."""
    todo = advise(name, names, f"Its columns are {shorten_list(names)}.")
    return UsageError(f"No column {name} in {table}.", todo=todo)


def choose_columns(words: str, types: Mapping[str, str], table: str = "the file") -> list[str]:
    """Return the columns that a choice names, each once, in the order of the choice.

    Raises UsageError if a word names no column.

    Parameters
    ----------
    words
        Words with commas between: `age`, `sleep_*`, `q1..q14` (numbered run), `q1..q13/2` (every second of it),
        `age::sex` (a run in file order), `@number @string @date @datetime @boolean @integer @all` (by type; `@number`
        has the integers too).
    types
        Type of each column of the table, in file order.
    table
        How messages call the table.
    """
    names = list(types)
    chosen: dict[str, None] = {}
    for word in (part.strip() for part in words.split(",")):
        if word:
            chosen.update(dict.fromkeys(_choose_by_word(word, names, types, table)))
    if not chosen:
        raise UsageError(f'The choice of columns "{words}" is empty.', todo="Give a name, a pattern or @all.")
    return list(chosen)


def choose_by_name(words: str, names: Sequence[str]) -> list[str] | None:
    """Return the columns that a choice names if names alone decide it; None if types are needed too.

    A word that names no column gives None, and is reported once the types are known.
    """
    if "@" in words:
        return None
    chosen: dict[str, None] = {}
    types = dict.fromkeys(names, "")
    for word in (part.strip() for part in words.split(",")):
        try:
            chosen.update(dict.fromkeys(_choose_by_word(word, list(names), types, "")) if word else {})
        except UsageError:
            return None
    return list(chosen)


def parse_sort_word(word: str, names: Collection[str]) -> tuple[str, bool]:
    """Return the column to sort by and whether descending; a column whose own name begins with a minus is ascending.

    >>> parse_sort_word("-day", ["pid", "day"]), parse_sort_word("-day", ["-day"])
    (('day', True), ('-day', False))
    """
    is_descending = word.startswith("-") and word not in names
    return (word[1:].strip() if is_descending else word), is_descending


def _choose_by_word(word: str, names: list[str], types: Mapping[str, str], table: str) -> list[str]:
    if word in types:
        return [word]
    if word.startswith("@"):
        return _choose_by_type(word[1:], types)
    if "::" in word:
        return _choose_between(word, names, table)
    numbered = NUMBERED.fullmatch(word)
    if numbered and numbered["stem"] == numbered["stem2"]:
        return _choose_numbered(numbered, names, types, table)
    matches = fnmatch.filter(names, word) if any(character in word for character in "*?[") else []
    first, dots, last = (part.strip() for part in word.partition(".."))
    if not matches and dots and {first, last} <= {*types}:
        todo = f"Use {first}::{last} for the columns from {first} to {last}."
        raise UsageError(f"No column {word} in {table}.", todo=todo, columns=[word])
    if not matches:
        raise unknown_column_error(word, names, table)
    return matches


def _choose_between(word: str, names: list[str], table: str) -> list[str]:
    """Return the columns from one to another, in the order of the file."""
    ends = [end.strip() for end in word.split("::", 1)]
    for end in ends:
        if end not in names:
            raise unknown_column_error(end, names, table)
    start, stop = sorted(map(names.index, ends))
    return names[start : stop + 1]


def _choose_numbered(span: re.Match[str], names: list[str], types: Mapping[str, str], table: str) -> list[str]:
    """Return columns whose names differ by a number; the first that is not there ends it, however long it would be."""
    width = len(span["first"]) if span["first"].startswith("0") else 1
    chosen = []
    for number in range(int(span["first"]), int(span["last"]) + 1, int(span["step"] or 1)):
        chosen.append(f"{span['stem']}{number:0{width}d}{span['tail']}")
        if chosen[-1] not in types:
            raise unknown_column_error(chosen[-1], names, table)
    return chosen


def _choose_by_type(type_: str, types: Mapping[str, str]) -> list[str]:
    if type_ == "all":
        return list(types)
    accepted = {"number": ("number", "integer")}.get(type_, (type_,))
    if type_ not in ("integer", "number", "string", "date", "datetime", "boolean"):
        raise UsageError(
            f"Unknown column type @{type_}.",
            todo="Types are @integer @number @string @date @datetime @boolean, and @all for every column.",
        )
    return [name for name, type_found in types.items() if type_found in accepted]


def require_choice(words: str) -> None:
    """Stop if a choice of columns cannot be valid for any table.

    Raises UsageError if it names nothing or an unknown type.
    """
    named = [word.strip() for word in words.split(",") if word.strip()]
    if not named:
        raise UsageError(f'The choice of columns "{words}" is empty.', todo="Give a name, a pattern or @all.")
    for word in named:
        if word.startswith("@"):
            _choose_by_type(word[1:], {})
