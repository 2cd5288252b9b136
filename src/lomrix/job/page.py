"""A page for people as an output."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lomrix.core.errors import UsageError
from lomrix.core.steps.report.content import Content
from lomrix.core.table.table import Table
from lomrix.files.interface import Placed
from lomrix.files.staging import FileSink

PAGES = (".html", ".htm")


@dataclass
class PageSink(FileSink):
    """One file that holds all it needs."""

    page: Content | None = None

    def understand(self, ready: Sequence[Any]) -> None:
        """Take up what it tells."""
        self.page = ready[0]

    def check(self) -> None:
        """Stop where its extension is none of a page, too."""
        if self.path.suffix.lower() not in PAGES:
            raise UsageError(f"A page cannot be written to {self.path.name}.", todo="Its extension is .html.")
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Draw it."""
        from lomrix.show.page import page_text

        assert isinstance(content, Table) and self.page is not None
        part.write_text(page_text(self.page), encoding="utf-8")
        return {}

    def commit(self) -> tuple[Placed, ...]:
        """Put it in its place; it is told without the size of a table."""
        return tuple(Placed(one.told) for one in super().commit())
