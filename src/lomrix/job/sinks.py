"""Secrets: files of one line that only their owner can read, made where they do not exist yet."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table
from lomrix.files.interface import StoredOutput
from lomrix.files.staging import FileSink, guard

if TYPE_CHECKING:
    from lomrix.core.steps.report.content import Content

SECRET_BYTES = 32
SECRET = "secret"


def read_secret(reference: str) -> tuple[Table, bool]:
    """Read a secret as a table of one cell; if there is no file, make a new secret and return True with it."""
    path = Path(reference)
    if not path.exists():
        return make_text_table([SECRET], [[secrets.token_hex(SECRET_BYTES)]], path.stem), True
    content = guard(path, "read", path.read_bytes)
    if not content.strip():
        raise FileError(f"The secret file {path} is empty.", todo="Remove the file; a new secret is made then.")
    return make_text_table([SECRET], [[content.strip().decode(errors="replace")]], path.stem), False


@dataclass
class SecretSink(FileSink):
    """A new secret in a file that only its owner can read."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write the secret."""
        assert isinstance(content, Table)
        part.write_text(f"{content[SECRET].first_text()}\n")
        return {}


FIGURE_SUFFIXES = (".png", ".svg", ".pdf")


@dataclass
class FigureSink(FileSink):
    """A figure, in the format that its file's extension names."""

    def check(self) -> None:
        """Check the extension, then the path."""
        if self.path.suffix.lower() not in FIGURE_SUFFIXES:
            raise UsageError(
                f"A figure cannot be written to {self.path}.",
                todo=f"Use one of the extensions {' '.join(FIGURE_SUFFIXES)}.",
            )
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Draw the figure."""
        from lomrix.show.drawing import draw

        draw(content, part, self.path.suffix.lower().lstrip("."))
        return {}


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
