"""The companion as plain text: names in order, where they stand, missing codes, labels and codes."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.prepared import Prepared, Recoding
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import counted
from lomrix.files.lines import Place

WIDTH = 72
# A longer list of codes is set in lines instead of one code a line.
LONG = 30
# And a list that nobody would read is put into a file of its own.
MANY = 500
# A blank at which lines are not broken, so that a code stays with its text.
UNBROKEN = "\x1f"
DELIMITER_WORDS = {",": "commas", "\t": "tabs", " ": "blanks", ";": "semicolons", "|": "upright strokes"}


def codes_path(path: Path) -> Path:
    """Where the codes given to texts stand when they are too many for the companion text."""
    return path.with_name(path.stem + ".codes.csv")


def codes_table(many: Mapping[str, pa.Array]) -> bytes:
    """Column, code and text, one code a row."""
    sink = pa.BufferOutputStream()
    for at, (name, texts) in enumerate(many.items()):
        codes = pa.array(np.arange(1, len(texts) + 1))
        table = pa.table({"column": pa.repeat(pa.scalar(name), len(texts)), "code": codes, "text": texts})
        options = pacsv.WriteOptions(include_header=at == 0, quoting_style="needed")
        pacsv.write_csv(table, sink, options)
    return sink.getvalue().to_pybytes()


def companion(
    ready: Prepared, path: Path, delimiter: str, *, has_header: bool, form: TextForm, places: Sequence[Place] = ()
) -> str:
    """The companion text.

    Parameters
    ----------
    ready
        What was written, and how it has to be understood.
    path
        Where the file stands.
    delimiter
        The sign between cells; empty where columns have a fixed width.
    has_header, form
        How it is written.
    places
        Where each column stands, where that is fixed or a record takes several lines.
    """
    made, known = ready.made, ready.labels
    between = f"separated by {DELIMITER_WORDS.get(delimiter, delimiter)}" if delimiter else "of fixed width"
    header = "names in the first line" if has_header else "no header"
    parts = [
        f"Columns of {path.name}",
        f"{counted(len(made), 'row', 'rows')}, {counted(len(made.names), 'column', 'columns')}, {between}, {header}."
        + written_how(form),
        f"Missing cells: {missing_words(ready)}",
        "Names in order:\n" + wrapped(" ".join(map(told_apart, made.names))).replace(UNBROKEN, " "),
    ]
    lines = max((place.line for place in places), default=1)
    if lines > 1:
        parts.insert(2, f"Each row takes {lines} lines.")
    if places and (lines > 1 or not delimiter):
        parts.append("Where they stand:\n" + (table_of_places(places) if not delimiter else columns_by_line(places)))
    if ready.old_names:
        parts.append("Names before:\n" + "\n".join(wrapped(f"{new}: {old}") for new, old in ready.old_names.items()))
    labels = [
        f"{name}: {entry.label}" + (f" [{entry.unit}]" if entry.unit else "")
        for name in made.names
        if (entry := known.of(name)).label
    ]
    if labels:
        parts.append("Labels:\n" + "\n".join(map(wrapped, labels)))
    codes = {
        name: ", ".join(f"{code} {label}" for code, label in known.labels_of(name).items())
        for name in made.names
        if not ready.recodings.get(name)
    }
    if any(codes.values()):
        parts.append(
            "Codes in the data:\n" + "\n".join(wrapped(f"{name}: {text}") for name, text in codes.items() if text)
        )
    if ready.recodings:
        told = []
        for name, recoding in ready.recodings.items():
            told.append(wrapped(f"{name}: {recoding.how}"))
            told += code_lines(recoding, known, name, path)
        parts.append("Turned into numbers:\n" + "\n".join(told))
    return "\n\n".join(parts) + "\n"


def written_how(form: TextForm) -> str:
    """What is not as usual, in words."""
    told = []
    if form.decimal != ".":
        told.append("Decimal places stand behind a comma.")
    if form.date_form:
        told.append(f"Dates are written as {form.date_form}.")
    if form.encoding != "utf-8":
        told.append(f"The encoding is {form.encoding}.")
    if form.line_ends == "windows":
        told.append("Lines end with a carriage return and a line feed.")
    return "".join(f" {one}" for one in told)


def missing_words(ready: Prepared) -> str:
    """The missing codes: the general one, and those that stand for a reason or in some columns only."""
    everywhere = ready.missing.everywhere
    closer = {
        (code, reason, name)
        for name, codes in ready.codes.items()
        for code, reason in codes.items()
        if code != everywhere
    }
    if not closer:
        return everywhere or "none"
    columns: dict[tuple[str, str], list[str]] = {}
    for code, reason, name in closer:
        columns.setdefault((code, reason), []).append(name)
    told = [f"  {code}  {reason}, in {in_order(names, ready)}" for (code, reason), names in sorted(columns.items())]
    first = f"{everywhere}, and" if everywhere else ""
    return "\n".join([first, *told])


def in_order(names: Sequence[str], ready: Prepared) -> str:
    """Some columns in their order."""
    inside = [name for name in ready.made.names if name in set(names)]
    return "all columns" if len(inside) == len(ready.made.names) else " ".join(inside)


def table_of_places(places: Sequence[Place]) -> str:
    """Column, first and last sign, width and decimal places; the line too where there are several."""
    several = max(place.line for place in places) > 1
    wide = max(4, *(len(place.name) for place in places))
    rows = [("name".ljust(wide), *(("line",) if several else ()), "from", "to", "width", "decimals")]
    rows += [
        (place.name.ljust(wide), *((str(place.line),) if several else ()), str(place.start), str(place.end),
         str(place.width), str(place.decimals or ""))
        for place in places
    ]  # fmt: skip
    return "\n".join("  ".join([row[0], *(cell.rjust(8) for cell in row[1:])]).rstrip() for row in rows)


def columns_by_line(places: Sequence[Place]) -> str:
    """The names that stand in each line of a record."""
    lines: dict[int, list[str]] = {}
    for place in places:
        lines.setdefault(place.line, []).append(told_apart(place.name))
    return "\n".join(wrapped(f"line {line}: {' '.join(names)}").replace(UNBROKEN, " ") for line, names in lines.items())


def code_lines(recoding: Recoding, known: Dictionary, name: str, path: Path) -> list[str]:
    """The codes given to a column's texts: one a line, in running lines, or in a file of their own."""
    if len(recoding.texts) > MANY:
        return [f"    (the codes stand in {codes_path(path).name})"]
    told = [f"{code} {with_label(known, name, text)}" for code, text in enumerate(recoding.texts.to_pylist(), start=1)]
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
