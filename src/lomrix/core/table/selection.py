"""The words that choose columns: names, patterns, runs and types."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping, Sequence

from lomrix.core.errors import UsageError
from lomrix.core.nearest import advice
from lomrix.core.wording import some_of

NUMBERED = re.compile(r"(?P<stem>.*?)(?P<first>\d+)\.\.(?P<stem2>.*?)(?P<last>\d+)(?P<tail>\D*)")


def unknown_column(name: str, names: Sequence[str], table: str) -> UsageError:
    """The error for a column that is not there, with the nearest names that are."""
    todo = advice(name, names, f"Its columns are {some_of(names)}.")
    return UsageError(f"There is no column {name} in {table}.", todo=todo)


def chosen_columns(words: str, types: Mapping[str, str], table: str = "the file") -> list[str]:
    """The columns that a choice names, each once, in the order of the choice.

    Parameters
    ----------
    words
        Words with commas between: `age`, `sleep_*`, `q1..q14` (numbered run), `age::sex` (a run in file
        order), `@number @string @date @datetime @boolean @integer @all` (by type; `@number` has the integers too).
    types
        Type of each column of the table, in file order.
    table
        How messages call the table.

    Raises
    ------
    UsageError
        Where a word names no column.
    """
    names = list(types)
    found: dict[str, None] = {}
    for word in (part.strip() for part in words.split(",")):
        if word:
            found.update(dict.fromkeys(_of_word(word, names, types, table)))
    if not found:
        raise UsageError(f'The choice of columns "{words}" names none.', todo="Give a name, a pattern or @all.")
    return list(found)


def columns_by_name(words: str, names: Sequence[str]) -> list[str] | None:
    """The columns that a choice names where names alone decide it; None where types are needed too.

    A word that names no column is passed over here; it is told once the types are known.
    """
    if "@" in words:
        return None
    found: dict[str, None] = {}
    types = dict.fromkeys(names, "")
    for word in (part.strip() for part in words.split(",")):
        try:
            found.update(dict.fromkeys(_of_word(word, list(names), types, "")) if word else {})
        except UsageError:
            return None
    return list(found)


def _of_word(word: str, names: list[str], types: Mapping[str, str], table: str) -> list[str]:
    if word in types:
        return [word]
    if word.startswith("@"):
        return _of_type(word[1:], types)
    if "::" in word:
        first, last = (end.strip() for end in word.split("::", 1))
        for end in (first, last):
            if end not in types:
                raise unknown_column(end, names, table)
        start, stop = sorted((names.index(first), names.index(last)))
        return names[start : stop + 1]
    numbered = NUMBERED.fullmatch(word)
    if numbered and numbered["stem"] == numbered["stem2"]:
        width = len(numbered["first"]) if numbered["first"].startswith("0") else 1
        span = range(int(numbered["first"]), int(numbered["last"]) + 1)
        run = []
        for number in span:  # the first that is not there ends it, however long the run would be
            run.append(f"{numbered['stem']}{number:0{width}d}{numbered['tail']}")
            if run[-1] not in types:
                raise unknown_column(run[-1], names, table)
        return run
    fitting = fnmatch.filter(names, word) if any(sign in word for sign in "*?[") else []
    if not fitting:
        raise unknown_column(word, names, table)
    return fitting


def _of_type(type_: str, types: Mapping[str, str]) -> list[str]:
    if type_ == "all":
        return list(types)
    wanted = {"number": ("number", "integer")}.get(type_, (type_,))
    if type_ not in ("integer", "number", "string", "date", "datetime", "boolean"):
        raise UsageError(
            f"There is no type @{type_}.",
            todo="Types are @integer @number @string @date @datetime @boolean, and @all for every column.",
        )
    return [name for name, found in types.items() if found in wanted]


def require_words(words: str) -> None:
    """Stop where a choice of columns cannot be one, whatever the table.

    Raises
    ------
    UsageError
        Where it names nothing, a type that there is not, or a run without an end.
    """
    named = [word.strip() for word in words.split(",") if word.strip()]
    if not named:
        raise UsageError(f'The choice of columns "{words}" names none.', todo="Give a name, a pattern or @all.")
    for word in named:
        if word.startswith("@"):
            _of_type(word[1:], {})
