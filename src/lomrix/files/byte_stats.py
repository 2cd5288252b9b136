"""Bytes of a text file: how many line feeds, quote characters and other letters, and where it can be cut."""

from __future__ import annotations

import itertools
import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from lomrix.core.arrays.threads import map_in_threads

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
    parts = map_in_threads(part, range(workers))
    return ByteStats(
        sum(stats.line_feeds for stats in parts),
        sum(stats.quotes for stats in parts),
        all(stats.is_ascii for stats in parts),
    )


def cut_at_lines(path: Path, start: int, size: int, end: int | None = None) -> list[range]:
    """Cut a file between two bytes into ranges of at least some bytes, each but the last ending with a line feed."""
    cuts, end = [start], path.stat().st_size if end is None else end
    with path.open("rb") as file:
        while cuts[-1] < end:
            file.seek(cuts[-1] + size)
            file.readline()
            cuts.append(min(file.tell(), end))
    return [range(*cut) for cut in itertools.pairwise(cuts)]


def closes_quotes(path: Path, piece: range) -> bool:
    """Return whether every line feed among some bytes, and their end, has an even number of quote characters above: no
    cell goes on in the next line.
    """
    chunk = np.frombuffer(read_range(path, piece), np.uint8)
    lines = np.append(0, np.flatnonzero(chunk == LINE_FEED))
    of_lines = np.add.reduceat((chunk == QUOTE).view(np.uint8), lines, dtype=np.uint8)
    return not (np.cumsum(of_lines, dtype=np.uint8) & 1).any()


def read_range(path: Path, piece: range) -> bytes:
    """Read some bytes of a file."""
    with path.open("rb") as file:
        file.seek(piece.start)
        return file.read(len(piece))


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
