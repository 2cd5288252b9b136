"""Bare files: numbers without a header, and a companion text that says what they are."""

from __future__ import annotations

import textwrap
from pathlib import Path

from lomrix.core.steps.prepare_export import Prepared
from lomrix.core.table.table import Table
from lomrix.files.text_writer import delimiter_of, write_columns

WIDTH = 72
# A longer list of codes is set in lines instead of one code a line.
LONG = 30
# A blank at which lines are not broken, so that a code stays with its text.
UNBROKEN = "\x1f"
DELIMITER_WORDS = {",": "commas", "\t": "tabs", " ": "blanks"}


def companion_path(path: Path) -> Path:
    """Where the companion text of a bare file stands: `model.dat` has `model.columns.txt`."""
    return path.with_name(path.stem + ".columns.txt")


def write_bare(prepared: Prepared, source: Table, path: Path, final: Path) -> dict[Path, bytes]:
    """Write a bare file to `path`; its companion, which will stand beside `final`, is returned."""
    delimiter = delimiter_of(final)
    write_columns(prepared.table.columns, {}, path, delimiter, header=False)
    return {companion_path(final): companion(prepared, source, final, delimiter).encode()}


def companion(prepared: Prepared, source: Table, path: Path, delimiter: str) -> str:
    """The companion text: names in order, missing code, and the codes given to texts."""
    table = prepared.table
    parts = [
        f"Columns of {path.name}",
        f"{len(table)} rows, {len(table.names)} columns, separated by {DELIMITER_WORDS[delimiter]}, no header.",
        f"Missing cells: {prepared.missing_code or 'none'}",
        "Names in order:\n" + wrapped(" ".join(table.names)),
    ]
    labels = [
        f"{name}: {entry.label}" + (f" [{entry.unit}]" if entry.unit else "")
        for name in table.names
        if (entry := source.dictionary.of(name)).label
    ]
    if labels:
        parts.append("Labels:\n" + "\n".join(map(wrapped, labels)))
    codes = {
        name: ", ".join(f"{code} {label}" for code, label in source.dictionary.labels_of(name).items())
        for name in table.names
        if not prepared.recodings.get(name)
    }
    if any(codes.values()):
        parts.append(
            "Codes in the data:\n" + "\n".join(wrapped(f"{name}: {text}") for name, text in codes.items() if text)
        )
    if prepared.recodings:
        lines = []
        for name, recoding in prepared.recodings.items():
            lines.append(wrapped(f"{name}: {recoding.how}"))
            told = [f"{number} {with_label(source, name, text)}" for number, text in recoding.codes]
            if len(told) > LONG:
                told = [wrapped(", ".join(pair.replace(" ", UNBROKEN) for pair in told)).replace(UNBROKEN, " ")]
            lines += [textwrap.indent(text, "    ") for text in told]
        parts.append("Turned into numbers:\n" + "\n".join(lines))
    return "\n\n".join(parts) + "\n"


def with_label(source: Table, name: str, text: str) -> str:
    """A text, with its label where the dictionary has one."""
    label = source.dictionary.labels_of(name).get(text)
    shown = f'"{text}"' if text != text.strip() else text
    return f"{shown} ({label})" if label else shown


def wrapped(text: str) -> str:
    """Text in lines of 72 columns at most."""
    return textwrap.fill(text, WIDTH - 4, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
