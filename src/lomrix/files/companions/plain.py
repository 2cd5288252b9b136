"""The companion as plain text: names in order, positions, missing codes, labels and codes."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.prepared import Prepared, Recoding
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import pluralize
from lomrix.files.lines import ColumnPosition

WIDTH = 72
# Longer lists of codes are set as running text instead of one code per line.
LONG = 30
# Even longer lists go into a file of their own.
MANY = 500
# A space at which lines are not broken, so that a code stays with its text.
NON_BREAKING = "\x1f"
DELIMITER_WORDS = {",": "commas", "\t": "tabs", " ": "spaces", ";": "semicolons", "|": "vertical bars"}


def codes_path(path: Path) -> Path:
    """Return the path of the codes given to texts when they are too many for the companion text."""
    return path.with_name(path.stem + ".codes.csv")


def make_codes_table(long_lists: Mapping[str, Recoding]) -> bytes:
    """Return a CSV table of column, code and text."""
    sink = pa.BufferOutputStream()
    for index, (name, recoding) in enumerate(long_lists.items()):
        names = pa.repeat(pa.scalar(name), len(recoding.texts))
        table = pa.table({"column": names, "code": pa.array(recoding.codes), "text": recoding.texts})
        options = pacsv.WriteOptions(include_header=index == 0, quoting_style="needed")
        pacsv.write_csv(table, sink, options)
    return sink.getvalue().to_pybytes()


def make_companion(
    prepared: Prepared,
    path: Path,
    delimiter: str,
    *,
    has_header: bool,
    form: TextForm,
    positions: Sequence[ColumnPosition] = (),
) -> str:
    """Return the companion text of a file: the prepared table, its path and delimiter (empty for fixed width), and the
    positions of fixed columns or multi-line records.
    """
    result, dictionary = prepared.made, prepared.labels
    separation = f"separated by {DELIMITER_WORDS.get(delimiter, delimiter)}" if delimiter else "of fixed width"
    header = "names in the first line" if has_header else "no header"
    parts = [
        f"Columns of {path.name}",
        f"{pluralize(len(result), 'row')}, {pluralize(len(result.names), 'column')}, {separation}, {header}."
        + describe_form(form),
        f"Missing cells: {list_missing_codes(prepared)}",
        "Names in order:\n" + wrap(" ".join(map(quote_name, result.names))).replace(NON_BREAKING, " "),
    ]
    lines = max((position.line for position in positions), default=1)
    if lines > 1:
        parts.insert(2, f"Each row takes {lines} lines.")
    if positions and (lines > 1 or not delimiter):
        parts.append("Positions:\n" + (format_positions(positions) if not delimiter else list_by_line(positions)))
    if prepared.old_names:
        parts.append("Names before:\n" + "\n".join(wrap(f"{new}: {old}") for new, old in prepared.old_names.items()))
    labels = [
        f"{name}: {entry.label}" + (f" [{entry.unit}]" if entry.unit else "")
        for name in result.names
        if (entry := dictionary.of(name)).label
    ]
    if labels:
        parts.append("Labels:\n" + "\n".join(map(wrap, labels)))
    codes = {
        name: ", ".join(f"{code} {label}" for code, label in dictionary.labels_of(name).items())
        for name in result.names
        if not prepared.recodings.get(name)
    }
    if any(codes.values()):
        parts.append(
            "Codes in the data:\n" + "\n".join(wrap(f"{name}: {text}") for name, text in codes.items() if text)
        )
    if prepared.recodings:
        lines_of_codes = []
        for name, recoding in prepared.recodings.items():
            lines_of_codes.append(wrap(f"{name}: {recoding.how}"))
            lines_of_codes += format_codes(recoding, dictionary, name, path)
        parts.append("Recoded as numbers:\n" + "\n".join(lines_of_codes))
    return "\n\n".join(parts) + "\n"


def describe_form(form: TextForm) -> str:
    """Describe what differs from the defaults."""
    sentences = []
    if form.decimal != ".":
        sentences.append("The decimal separator is a comma.")
    if form.date_form:
        sentences.append(f"Dates are written as {form.date_form}.")
    if form.encoding != "utf-8":
        sentences.append(f"The encoding is {form.encoding}.")
    if form.line_ends == "windows":
        sentences.append("Lines end with a carriage return and a line feed.")
    return "".join(f" {sentence}" for sentence in sentences)


def list_missing_codes(prepared: Prepared) -> str:
    """List the missing codes: the general one, and those for a reason or in some columns."""
    everywhere = prepared.missing.everywhere
    specific = {
        (code, reason, name)
        for name, codes in prepared.codes.items()
        for code, reason in codes.items()
        if code != everywhere
    }
    if not specific:
        return everywhere or "none"
    columns: dict[tuple[str, str], list[str]] = {}
    for code, reason, name in specific:
        columns.setdefault((code, reason), []).append(name)
    lines = [
        f"  {code}  {reason}, in {order_columns(names, prepared)}" for (code, reason), names in sorted(columns.items())
    ]
    first = f"{everywhere}, and" if everywhere else ""
    return "\n".join([first, *lines])


def order_columns(names: Sequence[str], prepared: Prepared) -> str:
    """Return some columns in file order."""
    selected = [name for name in prepared.made.names if name in set(names)]
    return "all columns" if len(selected) == len(prepared.made.names) else " ".join(selected)


def format_positions(positions: Sequence[ColumnPosition]) -> str:
    """Format a table of column, first and last position, width and decimals; with lines if there are several."""
    has_lines = max(position.line for position in positions) > 1
    width = max(4, *(len(position.name) for position in positions))
    rows = [("name".ljust(width), *(("line",) if has_lines else ()), "from", "to", "width", "decimals")]
    rows += [
        (position.name.ljust(width), *((str(position.line),) if has_lines else ()), str(position.start),
         str(position.end), str(position.width), str(position.decimals or ""))
        for position in positions
    ]  # fmt: skip
    return "\n".join("  ".join([row[0], *(cell.rjust(8) for cell in row[1:])]).rstrip() for row in rows)


def list_by_line(positions: Sequence[ColumnPosition]) -> str:
    """List the names in each line of a record."""
    lines: dict[int, list[str]] = {}
    for position in positions:
        lines.setdefault(position.line, []).append(quote_name(position.name))
    return "\n".join(
        wrap(f"line {line}: {' '.join(names)}").replace(NON_BREAKING, " ") for line, names in lines.items()
    )


def format_codes(recoding: Recoding, known: Dictionary, name: str, path: Path) -> list[str]:
    """Format the codes given to a column's texts: one per line, running text, or a reference to a file."""
    if len(recoding.texts) > MANY:
        return [f"    (the codes are in {codes_path(path).name})"]
    pairs = [f"{code} {format_with_label(known, name, text)}" for code, text in recoding.list_codes()]
    if len(pairs) > LONG:
        pairs = [wrap(", ".join(pair.replace(" ", NON_BREAKING) for pair in pairs)).replace(NON_BREAKING, " ")]
    return [textwrap.indent(text, "    ") for text in pairs]


def format_with_label(known: Dictionary, name: str, text: str) -> str:
    """Return a text, with its label if the dictionary has one."""
    label = known.labels_of(name).get(text)
    shown = f'"{text}"' if text != text.strip() else text
    return f"{shown} ({label})" if label else shown


def quote_name(name: str) -> str:
    """Quote a name with spaces, and keep it on one line."""
    return f'"{name}"'.replace(" ", NON_BREAKING) if len(name.split()) != 1 else name


def wrap(text: str) -> str:
    """Wrap text to at most 72 columns."""
    return textwrap.fill(text, WIDTH - 4, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False)
