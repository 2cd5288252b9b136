"""Tidy keys: forms of keys in which blanks, case or leading zeros do not count, when that is asked for."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.errors import DataError
from lomrix.core.rows.keys import key_texts, row_codes
from lomrix.core.steps.merge.settings import KeyPairs
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table


def tidied_texts(texts: pa.Array, words: Sequence[str]) -> pa.Array:
    """Texts in the form in which some differences do not count.

    Parameters
    ----------
    texts
        Arrow array of texts.
    words
        `blanks`: blanks around do not count, and several inside are one. `case`: capitals are small letters.
        `zeros`: zeros in front of a number do not count.
    """
    if "blanks" in words:
        texts = pc.replace_substring_regex(pc.utf8_trim_whitespace(texts), r"\s+", " ")
    if "case" in words:
        texts = pc.utf8_lower(texts)
    if "zeros" in words:
        texts = pc.replace_substring_regex(texts, r"^(\s*)0+(\d)", r"\1\2")
    return texts


def tidied_column(column: Column, words: Sequence[str]) -> Column:
    """A key column in that form; a column of whole numbers as its texts."""
    if column.type == "number":
        # Nought with a minus sign is nought.
        return Column.of("number", column.values + 0.0, column.why, column.reasons)
    if column.type not in ("string", "integer"):
        return column
    column = column.widened("string").compact()
    forms = tidied_texts(column.strings.strings, words)
    return Column.of_strings(column.values, Pool(forms), column.why, column.reasons)


def tidied_tables(base: Table, added: Table, key: KeyPairs, words: Sequence[str]) -> tuple[Table, Table, list[Note]]:
    """Both tables with their keys in that form, to be matched by; and how many keys became equal.

    Raises
    ------
    DataError
        Where two different keys of one file become equal, so that the file itself would be mixed up.
    """
    made = []
    for table, side in ((base, 0), (added, 1)):
        names = tuple(pair[side] for pair in key)
        tidy = table.with_columns({name: tidied_column(table[name], words) for name in names})
        _require_distinct(table, tidy, names)
        made.append(tidy)
    notes = [
        Note(f"keys were compared without regard to {', '.join(words)}.", ", ".join(k for k, _ in key), kind="tidy")
    ]
    return made[0], made[1], notes


def _require_distinct(before: Table, after: Table, names: tuple[str, ...]) -> None:
    old, old_size = row_codes(before, names)
    new, new_size = row_codes(after, names)
    rows = np.flatnonzero(new >= 0)
    first = np.full(new_size, -1, np.int64)
    first[new[rows][::-1]] = rows[::-1]
    mixed = rows[old[rows] != old[first[new[rows]]]]
    del old_size
    if len(mixed):
        other = first[new[mixed[:3]]]
        pairs = zip(key_texts(before, names, other), key_texts(before, names, mixed[:3]), strict=True)
        told = ", ".join(f'"{one}" and "{two}"' for one, two in pairs)
        raise DataError(
            f"Tidying would make different keys of {before.name} equal.",
            where=f"{counted(len(mixed), 'row', 'rows')}: {told}",
            todo="Tidy by fewer words, or mend the keys with a ledger.",
        )
