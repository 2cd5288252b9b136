"""Which bytes a text file holds, in one pass over it: line feeds, quotation marks, letters beyond ASCII."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

# Bytes that are looked at together, so that they stay in the processor's cache.
BLOCK = 1 << 18
# A file of fewer bytes is looked at in one go.
SHARE = 1 << 23
LINE_FEED, QUOTE, ASCII = ord("\n"), ord('"'), 128


@dataclass(frozen=True)
class Signs:
    """What a file's bytes are.

    Parameters
    ----------
    line_feeds, quotes
        How many there are.
    is_ascii
        Whether no byte is above 127.
    """

    line_feeds: int
    quotes: int
    is_ascii: bool


def signs_of(path: Path) -> Signs:
    """Look at all bytes of a file, at the parts of a large one side by side."""
    size = path.stat().st_size
    workers = max(min(os.cpu_count() or 1, size // SHARE), 1)
    share = -(-size // workers)

    def part(number: int) -> Signs:
        return _signs_of_part(path, number * share, min(share, size - number * share))

    if workers == 1:
        return part(0)
    with ThreadPoolExecutor(workers) as pool:
        parts = list(pool.map(part, range(workers)))
    return Signs(
        sum(one.line_feeds for one in parts), sum(one.quotes for one in parts), all(one.is_ascii for one in parts)
    )


def _signs_of_part(path: Path, start: int, length: int) -> Signs:
    block = np.empty(BLOCK, np.uint8)
    line_feeds = quotes = largest = 0
    with path.open("rb", buffering=0) as file:
        file.seek(start)
        while length > 0 and (count := file.readinto(block[: min(BLOCK, length)].data)):
            found = block[:count]
            line_feeds += int(np.count_nonzero(found == LINE_FEED))
            quotes += int(np.count_nonzero(found == QUOTE))
            largest = max(largest, int(found.max()))
            length -= count
    return Signs(line_feeds, quotes, largest < ASCII)
