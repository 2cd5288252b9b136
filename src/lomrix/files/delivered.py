"""Deliveries in text: the delimiter, the places of columns, and the list of names that were made short."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from lomrix.core.errors import SettingError
from lomrix.core.steps.delivery import Delivery
from lomrix.files.text_writer import Codes, delimiter_of

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared
    from lomrix.files.lines import Place

# What the name of a template ends with.
TEMPLATE = ".j2"
TEXT_FILES = (".csv", ".tsv", ".txt", ".dat")


def delimiter_for(path: Path, delivery: Delivery) -> str:
    """The sign between the cells of a file; empty where columns have a fixed width, and where it is no text."""
    if delivery.form == "fixed" or path.suffix.lower() not in TEXT_FILES:
        return ""
    return delivery.text.delimiter or delimiter_of(path)


def require_distinct_signs(path: Path, delivery: Delivery) -> None:
    """Stop where one sign would divide both cells and decimal places.

    Raises
    ------
    SettingError
        Naming another one.
    """
    if delimiter_for(path, delivery) == delivery.text.decimal:
        raise SettingError(
            "decimal_out",
            f"In {path.name} a comma would divide both cells and decimal places.",
            todo="Add ‹delimiter_out=;›, or write a .tsv file.",
        )


def codes_in(ready: Prepared) -> Codes:
    """By column, the missing codes that stand in it as values."""
    return {name: tuple(codes) for name, codes in ready.codes.items() if codes}


def places_in(ready: Prepared, delivery: Delivery) -> tuple[Place, ...]:
    """Where the columns stand; empty where the file has neither fixed columns nor rows of several lines."""
    if delivery.form != "fixed" and not delivery.text.line_max:
        return ()
    from lomrix.files.lines import found_places

    return found_places(ready.made.columns, delivery.text, codes_in(ready))


def names_path(path: Path) -> Path:
    """Where the list of short names stands: `model.dat` has `model.names.csv`."""
    return path.with_name(path.stem + ".names.csv")


def names_beside(ready: Prepared | None, path: Path) -> Mapping[Path, bytes]:
    """The list of short names, where there are some: each name as written, the one before, and its label."""
    if ready is None or not ready.old_names:
        return {}
    rows = [(name, ready.old_names.get(name, name), ready.labels.of(name).label) for name in ready.made.names]
    return {names_path(path): csv_bytes(("name", "before", "label"), rows)}


def csv_bytes(heads: tuple[str, ...], rows: Sequence[tuple[object, ...]]) -> bytes:
    """A small table as comma-separated text."""
    sink = io.StringIO()
    writer = csv.writer(sink, lineterminator="\n")
    writer.writerow(heads)
    writer.writerows(rows)
    return sink.getvalue().encode()
