"""Text deliveries: the delimiter, the positions of columns, and the list of shortened names."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from lomrix.core.errors import SettingError
from lomrix.core.steps.delivery import Delivery
from lomrix.files.text_writer import Codes, default_delimiter

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared
    from lomrix.files.lines import ColumnPosition

# Extension of templates.
TEMPLATE = ".j2"
TEXT_FILES = (".csv", ".tsv", ".txt", ".dat")


def choose_delimiter(path: Path, delivery: Delivery) -> str:
    """Return the delimiter of a file; empty for fixed width, and if it is not text."""
    if delivery.form == "fixed" or path.suffix.lower() not in TEXT_FILES:
        return ""
    return delivery.text.delimiter or default_delimiter(path)


def require_distinct_separators(path: Path, delivery: Delivery) -> None:
    """Stop if one character would be both delimiter and decimal separator.

    Raises SettingError with another one.
    """
    if choose_delimiter(path, delivery) == delivery.text.decimal:
        raise SettingError(
            "decimal_out",
            f"In {path.name} a comma would be both the delimiter and the decimal separator.",
            todo="Add ‹delimiter_out=;›, or write a .tsv file.",
        )


def list_codes(prepared: Prepared) -> Codes:
    """Return by column the missing codes that are stored as values."""
    return {name: tuple(codes) for name, codes in prepared.codes.items() if codes}


def find_positions(prepared: Prepared, delivery: Delivery) -> tuple[ColumnPosition, ...]:
    """Return the positions of the columns; empty if the file has neither fixed columns nor multi-line rows."""
    if delivery.form != "fixed" and not delivery.text.line_max:
        return ()
    from lomrix.files.lines import measure_columns

    return measure_columns(prepared.made.columns, delivery.text, list_codes(prepared))


def layout_path(path: Path) -> Path:
    """Return the path of the positions of fixed columns: `model.dat` has `model.layout.csv`."""
    return path.with_name(path.stem + ".layout.csv")


def names_path(path: Path) -> Path:
    """Return the path of the list of short names: `model.dat` has `model.names.csv`."""
    return path.with_name(path.stem + ".names.csv")


def make_names_file(prepared: Prepared | None, path: Path) -> Mapping[Path, bytes]:
    """Return the list of short names, if any: each name as written, the one before, and its label."""
    if prepared is None or not prepared.old_names:
        return {}
    rows = [(name, prepared.old_names.get(name, name), prepared.labels.of(name).label) for name in prepared.made.names]
    return {names_path(path): make_csv(("name", "before", "label"), rows)}


def make_csv(heads: tuple[str, ...], rows: Sequence[tuple[object, ...]]) -> bytes:
    """Return a small table as comma-separated text."""
    sink = io.StringIO()
    writer = csv.writer(sink, lineterminator="\n")
    writer.writerow(heads)
    writer.writerows(rows)
    return sink.getvalue().encode()
