"""What the missing cells of text files may hold."""

from __future__ import annotations

from typing import Literal

# `empty`, or the `words` of their reasons.
InCells = Literal["empty", "words"]
