"""Figures as outputs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.files.staging import FileSink

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
