"""Files without room for a description: it stands beside them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.hashing import file_hash
from lomrix.files.missing import Missing, missing_of
from lomrix.files.missing_words import InCells
from lomrix.files.staging import FileSink


@dataclass
class DescribedSink(FileSink):
    """A file whose descriptor stands beside it.

    Parameters
    ----------
    in_cells
        What stands in missing cells whose reason has no code.
    """

    in_cells: InCells = "empty"

    @property
    def beside(self) -> tuple[Path, ...]:
        """The descriptor."""
        return (descriptor.descriptor_path(self.path),)

    def missing(self, table: Table) -> dict[str, Missing]:
        """By column, how its missing cells are written."""
        return {
            name: missing_of(column, table.dictionary.of(name), self.in_cells) for name, column in table.columns.items()
        }

    def described(
        self, part: Path, told: Mapping[str, object], digest: str = "", how: descriptor.Written = descriptor.USUAL
    ) -> Mapping[Path, bytes]:
        """The descriptor of a part that was written; its digest where that is known already, and how it is written."""
        size, digest = part.stat().st_size, digest or file_hash(part)
        return {self.beside[0]: descriptor.descriptor_bytes(self.path, size, digest, told, how)}
