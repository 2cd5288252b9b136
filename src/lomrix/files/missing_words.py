"""What may stand in the missing cells of text files."""

from __future__ import annotations

from typing import Literal

# `empty` cells, or the `words` of their reasons.
InCells = Literal["empty", "words"]
