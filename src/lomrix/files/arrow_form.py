"""Tables in Arrow form: one column for each variable, nulls where cells are missing, and why they are."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NOTHING_KNOWN
from lomrix.core.wording import in_utf8
from lomrix.files import descriptor
from lomrix.files.arrow_columns import METADATA, columns_from_arrow, one_array
from lomrix.files.file_source import Cells, FileSource
from lomrix.files.missing import Missing, missing_of, number_of_runs

# Reasons are told as runs of rows up to so many runs, and to one for so many rows.
FEW_RUNS = 1000
ROWS_FOR_A_RUN = 64


# -------------------------------------------------------------------- writing


@dataclass(frozen=True)
class ArrowForm:
    """How the columns of a table are put into Arrow, found once for the whole of it.

    Parameters
    ----------
    table
        The table.
    missing
        By column, how its missing cells are told of in the metadata.
    packed
        Columns whose reasons stand in one column of bytes, since runs would be larger.
    packed_name
        That column's name; empty where there is none.
    """

    table: Table
    missing: Mapping[str, Missing]
    packed: tuple[str, ...]
    packed_name: str

    @classmethod
    def of(cls, table: Table, *, packs: bool = True) -> ArrowForm:
        """Look at the reasons of each column.

        Parameters
        ----------
        table
            The table.
        packs
            Whether the form may hold a column of bytes.
        """
        several = [name for name, column in table.columns.items() if len(column.reason_counts()) > 1]
        runs = sum(number_of_runs(table[name]) for name in several)
        many = packs and runs > max(FEW_RUNS, len(table) // ROWS_FOR_A_RUN)
        packed = tuple(several) if many else ()
        missing = {
            name: Missing() if name in packed else missing_of(column, NOTHING_KNOWN)
            for name, column in table.columns.items()
        }
        name = "_why"
        while name in table.columns:
            name = f"_{name}"
        return cls(table, missing, packed, name if packed else "")

    def descriptor(self) -> dict[str, object]:
        """The descriptor of the table."""
        content = descriptor.descriptor(self.table, self.missing)
        if self.packed:
            reasons = {name: list(self.table[name].reasons) for name in self.packed}
            content[descriptor.PACKED] = {"column": self.packed_name, "reasons": reasons}
        return content

    def metadata(self, path: Path) -> dict[bytes, bytes]:
        """Metadata with the descriptor of a file that will stand at a path."""
        whole = {"name": in_utf8(path.stem).lower().replace(" ", "-"), "path": in_utf8(path.name), **self.descriptor()}
        return {METADATA: json.dumps(whole, ensure_ascii=False).encode()}

    def part(self, start: int, stop: int) -> pa.Table:
        """Some rows as a pyarrow Table."""
        arrays = {name: whole.part(start, stop).to_arrow() for name, whole in self.table.columns.items()}
        if self.packed:
            arrays[self.packed_name] = self._packed_bytes(start, stop)
        return pa.table(arrays)

    def _packed_bytes(self, start: int, stop: int) -> pa.Array:
        rows = len(self.table.columns[self.packed[0]].part(start, stop))
        cells = np.zeros((rows, len(self.packed)), np.uint8)
        for at, name in enumerate(self.packed):
            why = self.table[name].why
            if why is not None:
                cells[:, at] = why[start:stop]
        kind = pa.binary(len(self.packed))
        return pa.FixedSizeBinaryArray.from_buffers(kind, rows, [None, pa.py_buffer(cells.tobytes())])

    def whole(self) -> pa.Table:
        """All rows as a pyarrow Table."""
        return self.part(0, len(self.table))


# -------------------------------------------------------------------- reading


class ArrowSource(FileSource):
    """A file whose format holds columns with types and metadata. Formats say how to have the columns."""

    def schema(self) -> pa.Schema:
        """The pyarrow Schema of the file."""
        raise NotImplementedError

    def arrow(self, names: Sequence[str], rows: range | None) -> pa.Table:
        """Some columns and rows as a pyarrow Table."""
        raise NotImplementedError

    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The names, the column of reasons left out, and the descriptor in the metadata."""
        schema = self.schema()
        names = list(schema.names)
        twice = next((one for one in names if names.count(one) > 1), None)
        if twice is not None:
            raise FileError(
                f"The name {twice} stands twice in {self.path.name}.", todo="Rename one of the two columns."
            )
        resource = resource_in(schema.metadata, self.path)
        packed = None if resource is None else resource.packed
        return [name for name in names if packed is None or name != packed.column], resource

    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """The columns, with their reasons where those are packed."""
        resource = self._looked[1]
        packed = None if resource is None else resource.packed
        wanted = [name for name in names if packed is not None and name in packed.reasons]
        further = [packed.column] if packed is not None and wanted else []
        arrow = self.arrow([*names, *further], rows)
        beside = self.described.dictionary
        columns, notes = columns_from_arrow(arrow, names, self.settings, beside, self.path.name)
        if packed is not None and wanted:
            whys = unpacked(arrow.column(packed.column), len(packed.reasons))
            for at, (name, reasons) in enumerate(packed.reasons.items()):
                if name in wanted and whys is not None:
                    columns[name] = with_packed(columns[name], whys[:, at], tuple(reasons))
        return Cells(columns, notes)


def unpacked(column: pa.ChunkedArray, width: int) -> npt.NDArray[np.uint8] | None:
    """The bytes of a packed column, one row for each of its rows; None where it is none."""
    array = one_array(column)
    if array.type != pa.binary(width):
        return None
    if not len(array):
        return np.zeros((0, width), np.uint8)
    raw = np.frombuffer(array.buffers()[1], np.uint8)
    return raw[array.offset * width : (array.offset + len(array)) * width].reshape(len(array), width)


def with_packed(column: Column, why: npt.NDArray[np.uint8], reasons: tuple[str, ...]) -> Column:
    """A column whose blanks are missing for the reasons that bytes tell; what has a value is left alone."""
    if column.why is None or BLANK not in column.reasons:
        return column
    blank = column.why == column.reasons.index(BLANK) + 1
    every = tuple(dict.fromkeys([*column.reasons, *reasons]))
    told = blank & (why > 0) & (why <= len(reasons))
    numbers = np.array([0, *(every.index(reason) + 1 for reason in reasons)], np.uint8)
    found = column.why.copy()
    found[told] = numbers[why[told]]
    return Column(column.type, column.stored, found, every, column.pool)


def resource_in(metadata: Mapping[bytes, bytes] | None, path: Path) -> descriptor.Resource | None:
    """The descriptor in a file's metadata; None where the file was not written by Lomrix."""
    text = (metadata or {}).get(METADATA)
    if text is None:
        return None
    try:
        return descriptor.Resource.model_validate_json(text)
    except ValidationError as error:
        raise FileError(
            f"The metadata of {path.name} cannot be understood.", where=descriptor.first_line(error)
        ) from error


def unreadable(path: Path, kind: str, error: pa.ArrowException) -> FileError:
    """A file that is not of the kind that its name says, or is damaged."""
    return FileError(
        f"{path.name} cannot be read as {kind}.",
        where=descriptor.first_line(error),
        todo="Check that it was copied whole and has its own extension.",
    )
