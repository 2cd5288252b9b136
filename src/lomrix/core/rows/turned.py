"""Items that were turned round in their span by an earlier step, as the history and the dictionary tell."""

from __future__ import annotations

from collections.abc import Sequence

from lomrix.core.errors import UsageError
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table

# So the dictionary says it of a variable.
TURNED = "Turned round in its span."


def turned_already(table: Table, names: Sequence[str]) -> set[str]:
    """Those of some columns that were turned round.

    Parameters
    ----------
    table
        A table with its history and its dictionary.
    names
        Columns of it.
    """
    found = {name for name in names if TURNED in table.dictionary.of(name).description}
    types = dict.fromkeys(names, "")
    for entry in table.history.tasks.values():
        settings = entry.get("settings")
        if entry.get("do") != "recode" or not isinstance(settings, dict) or settings.get("into"):
            continue
        words = settings.get("reverse")
        if words:
            for word in str(words).split(","):
                try:
                    found.update(chosen_columns(word, types))
                except UsageError:  # it speaks of columns that are not asked for, or not here any more
                    continue
    return found
