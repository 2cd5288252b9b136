"""Bare files: numbers without a header, and a companion text that says what they are."""

from __future__ import annotations

import csv
import io
import textwrap
from pathlib import Path

from lomrix.core.steps.prepare_export import Prepared, Recoding
from lomrix.core.table.table import Table
from lomrix.files.text_writer import delimiter_of, write_columns

WIDTH = 72
# A longer list of codes is set in lines instead of one code a line.
LONG = 30
# And a list that nobody would read is put into a file of its own.
MANY = 500
# A blank at which lines are not broken, so that a code stays with its text.
UNBROKEN = "\x1f"
DELIMITER_WORDS = {",": "commas", "\t": "tabs", " ": "blanks"}


def companion_path(path: Path) -> Path:
    """Where the companion text of a bare file stands: `model.dat` has `model.columns.txt`."""
    return path.with_name(path.stem + ".columns.txt")


def codes_path(path: Path) -> Path:
    """Where the codes given to texts stand when they are too many for the companion text."""
    return path.with_name(path.stem + ".codes.csv")


def beside_bare(path: Path) -> list[Path]:
    """All files that may be written beside a bare file."""
    return [companion_path(path), codes_path(path)]


def write_bare(prepared: Prepared, source: Table, path: Path, final: Path) -> dict[Path, bytes]:
    """Write a bare file to `path`; what will stand beside `final` is returned."""
    delimiter = delimiter_of(final)
    write_columns(prepared.table.columns, {}, path, delimiter, header=False)
    beside = {companion_path(final): companion(prepared, source, final, delimiter).encode()}
    many = {name: recoding.texts for name, recoding in prepared.recodings.items() if len(recoding.texts) > MANY}
    if many:
        beside[codes_path(final)] = codes_table(many)
    return beside


def codes_table(many: dict[str, tuple[str, ...]]) -> bytes:
    """Column, code and text, one code a row."""
    sink = io.StringIO()
    writer = csv.writer(sink, lineterminator="\n")
    writer.writerow(("column", "code", "text"))
    for name, texts in many.items():
        writer.writerows((name, code, text) for code, text in enumerate(texts, start=1))
    return sink.getvalue().encode()


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
            lines += code_lines(recoding, source, name, path)
        parts.append("Turned into numbers:\n" + "\n".join(lines))
    return "\n\n".join(parts) + "\n"


def code_lines(recoding: Recoding, source: Table, name: str, path: Path) -> list[str]:
    """The codes given to a column's texts: one a line, in running lines, or in a file of their own."""
    if len(recoding.texts) > MANY:
        return [f"    (the codes stand in {codes_path(path).name})"]
    told = [f"{code} {with_label(source, name, text)}" for code, text in enumerate(recoding.texts, start=1)]
    if len(told) > LONG:
        told = [wrapped(", ".join(pair.replace(" ", UNBROKEN) for pair in told)).replace(UNBROKEN, " ")]
    return [textwrap.indent(text, "    ") for text in told]


def with_label(source: Table, name: str, text: str) -> str:
    """A text, with its label where the dictionary has one."""
    label = source.dictionary.labels_of(name).get(text)
    shown = f'"{text}"' if text != text.strip() else text
    return f"{shown} ({label})" if label else shown


def wrapped(text: str) -> str:
    """Text in lines of 72 columns at most."""
    return textwrap.fill(text, WIDTH - 4, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
