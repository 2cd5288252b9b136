"""A page for people as an output."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.steps.report.content import Content
from lomrix.core.table.table import Table
from lomrix.files.interface import StoredOutput
from lomrix.files.staging import FileSink

PAGE_SUFFIXES = (".html", ".htm")


@dataclass
class PageSink(FileSink):
    """One self-contained HTML file."""

    page: Content | None = None

    def set_prepared(self, prepared: Sequence[Any]) -> None:
        """Keep the content of the page."""
        self.page = prepared[0]

    def check(self) -> None:
        """Check the extension, then the path."""
        if self.path.suffix.lower() not in PAGE_SUFFIXES:
            raise UsageError(f"A page cannot be written to {self.path.name}.", todo="Use the extension .html.")
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Render the page."""
        from lomrix.show.page import render_page

        assert isinstance(content, Table) and self.page is not None
        part.write_text(render_page(self.page), encoding="utf-8")
        return {}

    def commit(self) -> tuple[StoredOutput, ...]:
        """Move the page into place; it is reported without the size of a table."""
        return tuple(StoredOutput(output.description) for output in super().commit())
