"""Threads: columns are worked on at once, by as many threads as this process may have."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import pyarrow as pa

T = TypeVar("T")


def map_in_threads(function: Callable[..., T], *values: Iterable[Any], most: int = 1000) -> list[T]:
    """Apply a function to values in as many threads as PyArrow uses, at most `most`: each takes memory of its
    own. The results are in order.
    """
    count = min(pa.cpu_count(), most)
    if count == 1:
        return list(map(function, *values))
    with ThreadPoolExecutor(count) as threads:
        return list(threads.map(function, *values))
