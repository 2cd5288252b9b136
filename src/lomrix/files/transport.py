"""Values sent to other processes or kept for later: what is large is in files that every process maps."""

from __future__ import annotations

import contextlib
import io
import pickle
import threading
from bisect import bisect_right
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO
from weakref import WeakValueDictionary

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import FileError

# Bytes from which on an array is not sent itself, and how arrays begin in a file.
LARGE, ALIGNED = 1 << 11, 64
# Mapped files by their first address in memory, and by their path.
_by_address: WeakValueDictionary[int, np.memmap[Any, Any]] = WeakValueDictionary()
_by_path: WeakValueDictionary[str, np.memmap[Any, Any]] = WeakValueDictionary()
_lock = threading.Lock()


@contextlib.contextmanager
def writing_to(folder: Path) -> Iterator[None]:
    """Explain errors of the system in a scratch folder.

    Raises FileError with its reason.
    """
    try:
        yield
    except OSError as error:
        raise FileError(
            f"The scratch folder {folder.parent} cannot hold more.",
            where=str(error.strerror),
            todo="Free some space, or use ‹scratch=FOLDER› on a larger disk. Nothing was written.",
        ) from error


def map_file(path: Path) -> npt.NDArray[np.uint8]:
    """Return the bytes of a file, mapped; they can be read as long as they are used, also if the file is removed."""
    mapped = np.memmap(path, np.uint8, "r")
    with _lock:
        _by_address[mapped.ctypes.data] = mapped
        _by_path[str(path)] = mapped
    return mapped


def send(value: object, path: Path) -> bytes:
    """Return a value in a form that another process can receive; arrays that are not in a file yet go into one."""
    content = io.BytesIO()
    sender = _Sender(content, path)
    with writing_to(path.parent), contextlib.ExitStack() as stack:
        stack.callback(lambda: sender.file is not None and sender.file.close())
        sender.dump(value)
    return content.getvalue()


def receive(content: bytes) -> Any:
    """Return a value that was sent."""
    return pickle.loads(content)


class _Sender(pickle.Pickler):
    """Replaces large arrays by where they are in a file."""

    def __init__(self, content: io.BytesIO, path: Path) -> None:
        super().__init__(content, pickle.HIGHEST_PROTOCOL)
        self.path = path
        self.file: BinaryIO | None = None
        with _lock:
            maps = list(_by_address.items())
        # The files of an earlier run are gone, though what was mapped from them is still used.
        self.starts = sorted(address for address, mapped in maps if Path(str(mapped.filename)).exists())

    def reducer_override(self, value: object) -> Any:
        """Return how a value is restored."""
        if isinstance(value, np.ndarray) and value.ndim == 1 and value.nbytes > LARGE and not value.dtype.hasobject:
            if value.strides == (0,):
                return np.broadcast_to, (value[:1].copy(), value.shape)
            return _restore_array, (*self._locate(np.ascontiguousarray(value)), len(value), value.dtype.str)
        if isinstance(value, pa.Array) and pa.types.is_large_string(value.type) and value.nbytes > LARGE:
            return _restore_strings, (len(value), *_take_apart(value))
        return NotImplemented

    def _locate(self, value: npt.NDArray[Any]) -> tuple[str, int]:
        """Return the file of an array, and where it begins there."""
        address = value.ctypes.data
        index = bisect_right(self.starts, address) - 1
        mapped = _by_address.get(self.starts[index]) if index >= 0 else None
        if mapped is not None and address + value.nbytes <= self.starts[index] + mapped.nbytes:
            return str(mapped.filename), address - self.starts[index]
        if self.file is None:
            self.file = self.path.open("wb")
        begin = -(-self.file.tell() // ALIGNED) * ALIGNED
        self.file.seek(begin)
        self.file.write(value.data.cast("B") if value.dtype.kind not in "mM" else value.view(np.int64).data.cast("B"))
        return str(self.path), begin


def _restore_array(path: str, begin: int, count: int, dtype: str) -> Array:
    kind = np.dtype(dtype)
    mapped = _by_path.get(path)
    if mapped is None:
        mapped = map_file(Path(path))  # type: ignore[assignment]
    return np.asarray(mapped)[begin : begin + count * kind.itemsize].view(kind)


def _take_apart(strings: pa.Array) -> tuple[Array, Array, Array | None]:
    """Return where strings begin, their bytes, and which are there."""
    _, starts, raw = strings.buffers()
    begins = np.frombuffer(starts, np.int64, len(strings) + 1, strings.offset * 8)
    first, last = int(begins[0]), int(begins[-1])
    texts = np.frombuffer(raw, np.uint8, last - first, first) if last > first else np.zeros(0, np.uint8)
    is_there = strings.is_valid().to_numpy(zero_copy_only=False) if strings.null_count else None
    return begins - first if first else begins, texts, is_there


def _restore_strings(count: int, begins: Array, texts: Array, is_there: Array | None) -> pa.Array:
    valid = None if is_there is None else pa.py_buffer(np.packbits(is_there, bitorder="little"))
    return pa.Array.from_buffers(pa.large_string(), count, [valid, pa.py_buffer(begins), pa.py_buffer(texts)])
