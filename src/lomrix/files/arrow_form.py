"""Tables in Arrow form: one column per variable, nulls where cells are missing, and their reasons."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NO_ENTRY
from lomrix.core.wording import to_utf8
from lomrix.files import descriptor
from lomrix.files.arrow_columns import METADATA, columns_from_arrow, combine_chunks
from lomrix.files.file_source import Cells, FileSource
from lomrix.files.missing import MissingPlan, count_runs, plan_missing

# Reasons are stored as runs of rows up to this many runs, or one per this many rows.
FEW_RUNS = 1000
ROWS_FOR_A_RUN = 64
# Rows that are converted at once where a file is read in parts.
ROWS_AT_ONCE = 1 << 20


# -------------------------------------------------------------------- writing


@dataclass(frozen=True)
class ArrowForm:
    """How the columns of a table are stored in Arrow, determined once for all of it."""

    table: Table  # the table
    missing: Mapping[str, MissingPlan]  # by column, how its missing cells are told of in the metadata
    packed: tuple[str, ...]  # columns whose reasons stand in one column of bytes, since runs would be larger
    packed_name: str  # that column's name; empty where there is none

    @classmethod
    def from_table(cls, table: Table, *, packs: bool = True) -> ArrowForm:
        """Examine the reasons of each column; `packs` allows a column of bytes for them."""
        multi_reason = [name for name, column in table.columns.items() if len(column.reason_counts()) > 1]
        runs = sum(count_runs(table[name]) for name in multi_reason)
        is_packed = packs and runs > max(FEW_RUNS, len(table) // ROWS_FOR_A_RUN)
        packed = tuple(multi_reason) if is_packed else ()
        missing = {
            name: MissingPlan() if name in packed else plan_missing(column, NO_ENTRY)
            for name, column in table.columns.items()
        }
        # Equal tables have equal bytes, in whatever order the reasons were found.
        sorted_columns = {name: table[name].sort_reasons() for name in packed}
        table = replace(table, columns={**table.columns, **sorted_columns})
        name = "_why"
        while name in table.columns:
            name = f"_{name}"
        return cls(table, missing, packed, name if packed else "")

    def make_descriptor(self) -> dict[str, object]:
        """Return the descriptor of the table."""
        content = descriptor.make_descriptor(self.table, self.missing)
        if self.packed:
            reasons = {name: list(self.table[name].reasons) for name in self.packed}
            content[descriptor.PACKED] = {"column": self.packed_name, "reasons": reasons}
        return content

    def make_metadata(self, path: Path) -> dict[bytes, bytes]:
        """Return metadata with the descriptor of a file at this path."""
        content = {
            "name": to_utf8(path.stem).lower().replace(" ", "-"),
            "path": to_utf8(path.name),
            **self.make_descriptor(),
        }
        return {METADATA: json.dumps(content, ensure_ascii=False).encode()}

    def slice(self, start: int, stop: int) -> pa.Table:
        """Return some rows as a pyarrow Table."""
        arrays = {name: column.slice(start, stop).to_arrow() for name, column in self.table.columns.items()}
        if self.packed:
            arrays[self.packed_name] = self._pack_reasons(start, stop)
        return pa.table(arrays)

    def _pack_reasons(self, start: int, stop: int) -> pa.Array:
        rows = len(self.table.columns[self.packed[0]].slice(start, stop))
        cells = np.zeros((rows, len(self.packed)), np.uint8)
        for index, name in enumerate(self.packed):
            why = self.table[name].why
            if why is not None:
                cells[:, index] = why[start:stop]
        kind = pa.binary(len(self.packed))
        return pa.FixedSizeBinaryArray.from_buffers(kind, rows, [None, pa.py_buffer(cells.tobytes())])

    def to_arrow(self) -> pa.Table:
        """Return all rows as a pyarrow Table."""
        return self.slice(0, len(self.table))


# -------------------------------------------------------------------- reading


class ArrowSource(FileSource):
    """A file whose format has typed columns and metadata. Formats implement `schema` and `arrow`."""

    def schema(self) -> pa.Schema:
        """Return the pyarrow Schema of the file."""
        raise NotImplementedError

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Return some columns and rows as a pyarrow Table."""
        raise NotImplementedError

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the names, without the column of reasons, and the descriptor in the metadata."""
        schema = self.schema()
        names = list(schema.names)
        repeated = next((name for name in names if names.count(name) > 1), None)
        if repeated is not None:
            raise FileError(
                f"The column name {repeated} occurs twice in {self.path.name}.", todo="Rename one of the two columns."
            )
        resource = read_resource(schema.metadata, self.path)
        packed = None if resource is None else resource.packed
        return [name for name in names if packed is None or name != packed.column], resource

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Return the columns, with their packed reasons."""
        return self.convert(self.arrow(self.add_packed(names), rows), names)

    def add_packed(self, names: Sequence[str]) -> list[str]:
        """Return the columns to read: the names, and the column of reasons if one of them is packed."""
        resource = self._header[1]
        packed = None if resource is None else resource.packed
        is_needed = packed is not None and any(name in packed.reasons for name in names)
        return [*names, *([packed.column] if packed is not None and is_needed else [])]

    def convert(self, arrow: pa.Table, names: Sequence[str]) -> Cells:
        """Return the columns of a pyarrow Table, with their packed reasons."""
        resource = self._header[1]
        packed = None if resource is None else resource.packed
        beside = self.described.dictionary
        columns, notes = columns_from_arrow(arrow, names, self.settings, beside, self.path.name)
        if packed is not None and packed.column in arrow.column_names:
            whys = unpack_reasons(arrow.column(packed.column), len(packed.reasons))
            for index, (name, reasons) in enumerate(packed.reasons.items()):
                if name in columns and whys is not None:
                    columns[name] = apply_packed(columns[name], whys[:, index], tuple(reasons))
        return Cells(columns, notes)


def unpack_reasons(column: pa.ChunkedArray, width: int) -> npt.NDArray[np.uint8] | None:
    """Return the bytes of a packed column, one row for each of its rows; None if it is not one."""
    array = combine_chunks(column)
    if array.type != pa.binary(width):
        return None
    if not len(array):
        return np.zeros((0, width), np.uint8)
    raw = np.frombuffer(array.buffers()[1], np.uint8)
    return raw[array.offset * width : (array.offset + len(array)) * width].reshape(len(array), width)


def apply_packed(column: Column, why: npt.NDArray[np.uint8], reasons: tuple[str, ...]) -> Column:
    """Set the reasons of blanks from packed bytes; present cells are left alone."""
    if column.why is None or BLANK not in column.reasons:
        return column
    blank = column.why == column.reasons.index(BLANK) + 1
    all_reasons = tuple(dict.fromkeys([*column.reasons, *reasons]))
    has_reason = blank & (why > 0) & (why <= len(reasons))
    numbers = np.array([0, *(all_reasons.index(reason) + 1 for reason in reasons)], np.uint8)
    new_why = column.why.copy()
    new_why[has_reason] = numbers[why[has_reason]]
    return Column(column.type, column.stored, new_why, all_reasons, column.pool)


def read_resource(metadata: Mapping[bytes, bytes] | None, path: Path) -> descriptor.Resource | None:
    """Return the descriptor in a file's metadata; None if the file was not written by Lomrix."""
    text = (metadata or {}).get(METADATA)
    if text is None:
        return None
    try:
        return descriptor.Resource.model_validate_json(text)
    except ValidationError as error:
        raise FileError(f"The metadata of {path.name} is not valid.", where=descriptor.get_first_line(error)) from error


def make_read_error(path: Path, kind: str, error: pa.ArrowException) -> FileError:
    """Make the error for a file that is damaged or of another kind than its extension."""
    return FileError(
        f"{path.name} cannot be read as {kind}.",
        where=descriptor.get_first_line(error),
        todo="Check that it was copied whole and has its own extension.",
    )
