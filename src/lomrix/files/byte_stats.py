"""Byte statistics of a text file in one pass: line feeds, quote characters, non-ASCII letters."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

# Bytes per block, so that a block stays in the processor's cache.
BLOCK = 1 << 18
# Smaller files are examined by one thread.
SHARE = 1 << 23
LINE_FEED, QUOTE, ASCII = ord("\n"), ord('"'), 128


@dataclass(frozen=True)
class ByteStats:
    """Numbers of line feeds and quote characters, and whether all bytes are ASCII."""

    line_feeds: int
    quotes: int
    is_ascii: bool


def count_bytes(path: Path) -> ByteStats:
    """Examine all bytes of a file, parts of a large one in parallel."""
    size = path.stat().st_size
    workers = max(min(os.cpu_count() or 1, size // SHARE), 1)
    share = -(-size // workers)

    def part(number: int) -> ByteStats:
        return _count_part(path, number * share, min(share, size - number * share))

    if workers == 1:
        return part(0)
    with ThreadPoolExecutor(workers) as pool:
        parts = list(pool.map(part, range(workers)))
    return ByteStats(
        sum(stats.line_feeds for stats in parts),
        sum(stats.quotes for stats in parts),
        all(stats.is_ascii for stats in parts),
    )


def _count_part(path: Path, start: int, length: int) -> ByteStats:
    block = np.empty(BLOCK, np.uint8)
    line_feeds = quotes = maximum = 0
    with path.open("rb", buffering=0) as file:
        file.seek(start)
        while length > 0 and (count := file.readinto(block[: min(BLOCK, length)].data)):
            chunk = block[:count]
            line_feeds += int(np.count_nonzero(chunk == LINE_FEED))
            quotes += int(np.count_nonzero(chunk == QUOTE))
            maximum = max(maximum, int(chunk.max()))
            length -= count
    return ByteStats(line_feeds, quotes, maximum < ASCII)
