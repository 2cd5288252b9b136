"""Labels in place of codes: values as a person reads them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.codes import rank_values
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_number
from lomrix.core.table.pool import Pool


def encode_distinct(column: Column) -> tuple[list[str], npt.NDArray[np.int64]]:
    """Return the distinct values of a column as texts, and each cell's position among them (-1: missing)."""
    if column.type == "string":
        column = column.compact()
        return column.strings.strings.to_pylist(), column.values.astype(np.int64)
    positions, distinct = rank_values(column.values, column.is_missing)
    texts: list[str] = Column.of(column.type, distinct).to_text().to_pylist()
    return texts, positions


def apply_labels(column: Column, labels: Mapping[str, str]) -> tuple[Column, dict[str, tuple[int, int]]]:
    """Replace codes by labels; also return each value without a label (it stays) with its number of cells and its
    first row.
    """
    texts, positions = encode_distinct(column)
    known = CodeList(labels)
    found = [known.label_of(text) for text in texts]
    counts = np.bincount(positions[positions >= 0], minlength=len(texts)).tolist()
    unlabelled = {
        text: (count, int(np.argmax(positions == position)))
        for position, (text, label, count) in enumerate(zip(texts, found, counts, strict=True))
        if label is None and count
    }
    shown = [text if label is None else label for text, label in zip(texts, found, strict=True)]
    pool = Pool(pa.array(shown, pa.large_string()))
    return Column.of_strings(positions.astype(np.int32), pool, column.why, column.reasons), unlabelled


def count_code(column: Column, code: str) -> int:
    """Count the cells that hold a code as a value."""
    if column.type == "string":
        # Most codes do not occur in the column, which searching the pool shows without encoding it.
        if column.strings.strings.index(code).as_py() < 0:
            return 0
        column = column.encode()
        return int(np.count_nonzero(column.values == column.strings.strings.index(code).as_py()))
    if column.type not in ("integer", "number") or not is_number(code):
        return 0
    return int(np.count_nonzero((column.values == float(code)) & ~column.is_missing))
