"""Bare files: numbers without a header, and a companion text that describes them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.table import Table
from lomrix.files.companions.plain import MANY, codes_path, make_codes_table, make_companion
from lomrix.files.delivered import (
    choose_delimiter,
    find_positions,
    list_codes,
    make_names_file,
    names_path,
    require_distinct_separators,
)
from lomrix.files.lines import format_records
from lomrix.files.read_back import compare_file, compare_records
from lomrix.files.staging import FileSink, describe_losses
from lomrix.files.text_writer import require_writable, write_columns, write_parts


def companion_path(path: Path) -> Path:
    """Return the path of the companion text: `model.dat` has `model.columns.txt`."""
    return path.with_name(path.stem + ".columns.txt")


@dataclass
class Writer(FileSink):
    """A bare file with its companion text."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The companion text, the codes if they are too many for it, and the names if they were shortened."""
        return companion_path(self.path), codes_path(self.path), names_path(self.path)

    def check(self) -> None:
        """Also stop if the delimiter is the decimal separator."""
        require_distinct_separators(self.path, self.delivery)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table of numbers."""
        assert isinstance(content, Table) and self.prepared is not None
        prepared, form, delimiter = self.prepared, self.delivery.text, choose_delimiter(self.path, self.delivery)
        places, codes = find_positions(prepared, self.delivery), list_codes(prepared)
        if places:
            require_writable(content.columns, {}, form)
            write_parts([], format_records(content.columns, places, form, codes, delimiter), part, form, hashed=False)
        else:
            write_columns(content.columns, {}, part, delimiter, header=False, form=form, codes=codes, hashed=False)
        text = make_companion(prepared, self.path, delimiter, has_header=False, form=form, positions=places)
        long_lists = {name: recoding for name, recoding in prepared.recodings.items() if len(recoding.texts) > MANY}
        beside = {companion_path(self.path): text.encode(), **make_names_file(prepared, self.path)}
        return beside | ({codes_path(self.path): make_codes_table(long_lists)} if long_lists else {})

    def list_losses(self, table: Table) -> list[str]:
        """List reasons of empty cells and the history; labels and codes are in the companion."""
        return describe_losses(table)

    def verify(self, table: Table) -> int:
        """Read back the staged file and compare it."""
        assert self.prepared is not None
        places, codes = find_positions(self.prepared, self.delivery), list_codes(self.prepared)
        delimiter, form = choose_delimiter(self.path, self.delivery), self.delivery.text
        if places:
            return compare_records(table, self.staged, self.path, places, form, codes, delimiter)
        return compare_file(table, self.staged, self.path, delimiter, header=False, form=form, codes=codes)
