"""Bare files: numbers without a header, and a companion text that says what they are."""

from __future__ import annotations

import csv
import io
import textwrap
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.steps.export.run import Prepared, Recoding
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.files.read_back import compared_with_file
from lomrix.files.staging import FileSink
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


@dataclass
class Writer(FileSink):
    """A bare file with its companion text.

    Parameters
    ----------
    reading
        How the numbers have to be understood; said before anything is staged.
    """

    reading: Prepared = field(default_factory=Prepared)

    @property
    def beside(self) -> tuple[Path, ...]:
        """The companion text, and the codes where they are too many for it."""
        return companion_path(self.path), codes_path(self.path)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table of numbers."""
        assert isinstance(content, Table)
        delimiter = delimiter_of(self.path)
        write_columns(content.columns, {}, part, delimiter, header=False)
        beside = {companion_path(self.path): companion(content, self.reading, self.path, delimiter).encode()}
        many = {name: one.texts for name, one in self.reading.recodings.items() if len(one.texts) > MANY}
        if many:
            beside[codes_path(self.path)] = codes_table(many)
        return beside

    def verify(self, table: Table) -> int:
        """Read back what was staged and compare it."""
        return compared_with_file(table, self.staged, self.path, header=False)


def codes_table(many: Mapping[str, tuple[str, ...]]) -> bytes:
    """Column, code and text, one code a row."""
    sink = io.StringIO()
    writer = csv.writer(sink, lineterminator="\n")
    writer.writerow(("column", "code", "text"))
    for name, texts in many.items():
        writer.writerows((name, code, text) for code, text in enumerate(texts, start=1))
    return sink.getvalue().encode()


def companion(table: Table, reading: Prepared, path: Path, delimiter: str) -> str:
    """The companion text: names in order, missing code, and the codes given to texts."""
    known = reading.labels
    parts = [
        f"Columns of {path.name}",
        f"{len(table)} rows, {len(table.names)} columns, separated by {DELIMITER_WORDS[delimiter]}, no header.",
        f"Missing cells: {reading.missing_code or 'none'}",
        "Names in order:\n" + wrapped(" ".join(map(told_apart, table.names))).replace(UNBROKEN, " "),
    ]
    labels = [
        f"{name}: {entry.label}" + (f" [{entry.unit}]" if entry.unit else "")
        for name in table.names
        if (entry := known.of(name)).label
    ]
    if labels:
        parts.append("Labels:\n" + "\n".join(map(wrapped, labels)))
    codes = {
        name: ", ".join(f"{code} {label}" for code, label in known.labels_of(name).items())
        for name in table.names
        if not reading.recodings.get(name)
    }
    if any(codes.values()):
        parts.append(
            "Codes in the data:\n" + "\n".join(wrapped(f"{name}: {text}") for name, text in codes.items() if text)
        )
    if reading.recodings:
        lines = []
        for name, recoding in reading.recodings.items():
            lines.append(wrapped(f"{name}: {recoding.how}"))
            lines += code_lines(recoding, known, name, path)
        parts.append("Turned into numbers:\n" + "\n".join(lines))
    return "\n\n".join(parts) + "\n"


def code_lines(recoding: Recoding, known: Dictionary, name: str, path: Path) -> list[str]:
    """The codes given to a column's texts: one a line, in running lines, or in a file of their own."""
    if len(recoding.texts) > MANY:
        return [f"    (the codes stand in {codes_path(path).name})"]
    told = [f"{code} {with_label(known, name, text)}" for code, text in enumerate(recoding.texts, start=1)]
    if len(told) > LONG:
        told = [wrapped(", ".join(pair.replace(" ", UNBROKEN) for pair in told)).replace(UNBROKEN, " ")]
    return [textwrap.indent(text, "    ") for text in told]


def with_label(known: Dictionary, name: str, text: str) -> str:
    """A text, with its label where the dictionary has one."""
    label = known.labels_of(name).get(text)
    shown = f'"{text}"' if text != text.strip() else text
    return f"{shown} ({label})" if label else shown


def told_apart(name: str) -> str:
    """A name as it stands among others: in quotation marks, and in one line, where it holds blanks."""
    return f'"{name}"'.replace(" ", UNBROKEN) if len(name.split()) != 1 else name


def wrapped(text: str) -> str:
    """Text in lines of 72 columns at most."""
    return textwrap.fill(text, WIDTH - 4, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
