"""Figures as outputs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.files.staging import FileSink

FIGURES = (".png", ".svg", ".pdf")


@dataclass
class FigureSink(FileSink):
    """A figure, drawn by the extension of its file."""

    def check(self) -> None:
        """Stop where its extension is none of a figure, too."""
        if self.path.suffix.lower() not in FIGURES:
            raise UsageError(
                f"A figure cannot be written to {self.path}.", todo=f"Its extension is one of {' '.join(FIGURES)}."
            )
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Draw."""
        from lomrix.show.drawing import draw

        draw(content, part, self.path.suffix.lower().lstrip("."))
        return {}
