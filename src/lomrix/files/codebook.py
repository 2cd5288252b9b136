"""Codebooks as studies keep them: a row for each variable, its codes in one cell."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence

from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, plural
from lomrix.core.wording import shorten_list

# Columns of codebooks, in letters and digits only, that mean a part of a dictionary.
USUAL_HEADS = {
    "variable": ("name", "variablename", "varname", "column", "columnname"),
    "label": ("text", "question", "wording", "title", "variablelabel", "meaning"),
    "codes": ("values", "valuelabels", "answers", "categories", "coding"),
    "missing": ("missingcodes", "missingvalues"),
    "unit": ("units",),
    "minimum": ("min", "lowest"),
    "maximum": ("max", "highest"),
    "description": ("notes", "remarks", "comment", "comments"),
}
# Types as codebooks name them; what is coded may be of any type.
USUAL_TYPES = {
    "integer": ("int", "whole", "wholenumber"),
    "number": ("numeric", "num", "float", "double", "decimal", "real"),
    "string": ("text", "char", "character", "str", "alphanumeric"),
    "boolean": ("bool", "logical"),
    "datetime": ("timestamp", "dateandtime"),
    "": ("categorical", "category", "nominal", "ordinal", "coded"),
}
SEPARATORS = ("\n", ";", r"\|", ",")


def split_cell(text: str, separator: str, most: int = 0) -> list[str]:
    """Split a cell at separators that no backslash escapes."""
    return [part.strip() for part in re.split(rf"(?<!\\){separator}", text, maxsplit=most)]


def unescape(text: str) -> str:
    """Remove the backslashes before separators."""
    return re.sub(r"\\(.)", r"\1", text)


def parse_codes(text: str) -> dict[str, str]:
    """Parse the codes in a cell with their labels; empty if it has none, but the name of a list.

    Raises ValueError if a code stands twice.

    >>> parse_codes("0 = never; 1 = rarely, at night"), parse_codes("1: yes | 2: no"), parse_codes("watch")
    ({'0': 'never', '1': 'rarely, at night'}, {'1': 'yes', '2': 'no'}, {})
    """
    best: list[list[str]] = []
    for separator in SEPARATORS:
        for sign in "=:":
            pairs = [split_cell(part, sign, 1) for part in split_cell(text, separator) if part]
            are_pairs = all(len(pair) == 2 and all(pair) and not re.search(r"[\n;|]", pair[0]) for pair in pairs)
            best = pairs if are_pairs and len(pairs) > len(best) else best
    codes = {unescape(code): unescape(label) for code, label in best}
    if len(codes) < len(best):
        twice = next(code for code, _ in best if [other for other, _ in best].count(code) > 1)
        raise ValueError(f"the code {twice} is given twice")
    return codes


class CodeLists:
    """The lists of codes of a dictionary in sheets: those of a sheet of codes, and those in the cells of variables.

    `missing` are codes that mean a missing cell; they are taken out of the lists.
    """

    def __init__(self, named: Mapping[str, Codes], missing: Collection[str]) -> None:
        self.missing = missing
        split = {name: self.split(codes) for name, codes in named.items()}
        self.lists = {name: codes for name, (codes, _) in split.items()}
        self.reasons = {name: reasons for name, (_, reasons) in split.items()}
        self.names = {tuple(codes.items()): name for name, codes in self.lists.items()}

    def split(self, codes: Codes) -> tuple[dict[str, str], dict[str, str]]:
        """Return the codes of values, and those of missing cells."""
        of_values = {code: label for code, label in codes.items() if code not in self.missing}
        return of_values, {code: label for code, label in codes.items() if code not in of_values}

    def find(self, variable: str, cell: str) -> tuple[str | None, dict[str, str]]:
        """Return the list that the cell of a variable names or holds, and its codes of missing cells.

        Equal lists are one, named like the first variable.

        Raises ValueError if there is no such list, or another one of that name.
        """
        if not cell or cell in self.lists:
            return (cell or None), self.reasons.get(cell, {})
        codes, reasons = self.split(parse_codes(cell))
        if not codes and not reasons:
            raise ValueError(f"there is no list of codes named {cell}")
        if not codes:
            return None, reasons
        name = self.names.setdefault(tuple(codes.items()), variable)
        if self.lists.setdefault(name, codes) != codes:
            raise ValueError(f"it has codes of its own, and there is another list named {name}")
        return name, reasons


def note_unused(names: Sequence[str], heads: Collection[str]) -> list[Note]:
    """Note the columns of a sheet that a dictionary does not have."""
    unused = [name for name in names if name not in heads]
    if not unused:
        return []
    renames = propose_renames(unused, names)
    text = f"{plural(len(unused), 'column')} {shorten_list(unused)} {plural(len(unused), 'is', 'are')} not used"
    todo = (
        f"to use {plural(len(unused), 'it', 'them')}, convert the file with ‹rename={renames}›."
        if renames
        else f"a dictionary has {', '.join(heads)}."
    )
    return [Note(f"{text}; {todo}", kind="unused", count=len(unused))]


def find_type(text: str) -> str:
    """Return the type that a codebook means; the text itself if it is unknown.

    >>> find_type("Numeric"), find_type("ordinal"), find_type("integer")
    ('number', '', 'integer')
    """
    plain = make_plain(text)
    return next((type_ for type_, words in USUAL_TYPES.items() if plain in (type_, *words)), text)


def make_plain(text: str) -> str:
    """Return the small letters and digits of a text."""
    return re.sub(r"[\W_]", "", text.casefold())


def propose_renames(unused: Iterable[str], taken: Collection[str]) -> str:
    """Propose names for columns whose meaning is usual: text=label, values=codes."""
    renames: dict[str, str] = {}
    for name in unused:
        plain = make_plain(name)
        part = next((part for part, words in USUAL_HEADS.items() if plain in (part, *words)), None)
        if part is not None and part not in taken and part not in renames.values():
            renames[name] = part
    return ",".join(f"{old}={new}" for old, new in renames.items())
