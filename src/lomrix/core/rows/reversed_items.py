"""Items that an earlier step reverse-scored, by the history and the dictionary."""

from __future__ import annotations

from collections.abc import Sequence

from lomrix.core.errors import UsageError
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table


def find_reversed(table: Table, names: Sequence[str]) -> set[str]:
    """Return those of some columns that were reverse-scored."""
    result = {name for name in names if table.dictionary.of(name).reversed}
    types = dict.fromkeys(names, "")
    for entry in table.history.tasks.values():
        settings = entry.get("settings")
        if entry.get("do") != "recode" or not isinstance(settings, dict) or settings.get("into"):
            continue
        choices = settings.get("reverse")
        if choices:
            for choice in str(choices).split(","):
                try:
                    result.update(choose_columns(choice, types))
                except UsageError:  # it names other columns, or some that no longer exist
                    continue
    return result
