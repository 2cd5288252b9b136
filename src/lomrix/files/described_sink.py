"""Files without room for a description: the descriptor is written beside them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.hashing import hash_file
from lomrix.files.missing import MissingPlan, plan_missing
from lomrix.files.missing_words import InCells
from lomrix.files.staging import FileSink


@dataclass
class DescribedSink(FileSink):
    """A file with a descriptor beside it; `in_cells` says how to write missing cells whose reason has no code."""

    in_cells: InCells = "empty"

    @property
    def beside(self) -> tuple[Path, ...]:
        """The descriptor."""
        return (descriptor.descriptor_path(self.path),)

    def plan_missing(self, table: Table) -> dict[str, MissingPlan]:
        """Return by column how its missing cells are written."""
        return {
            name: plan_missing(column, table.dictionary.of(name), self.in_cells)
            for name, column in table.columns.items()
        }

    def make_descriptor(
        self,
        part: Path,
        content: Mapping[str, object],
        digest: str = "",
        how: descriptor.TextLayout = descriptor.DEFAULT_LAYOUT,
    ) -> Mapping[Path, bytes]:
        """Return the descriptor of a part that was written; `digest` is its hash if already known."""
        size, digest = part.stat().st_size, digest or hash_file(part)
        return {self.beside[0]: descriptor.format_descriptor(self.path, size, digest, content, how)}
