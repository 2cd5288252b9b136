"""Labels in place of codes: values as a person reads them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.codes import rank_values
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool


def encode_distinct(column: Column) -> tuple[list[str], npt.NDArray[np.int64]]:
    """Return the distinct values of a column as texts, and each cell's position among them (-1: missing)."""
    if column.type == "string":
        column = column.compact()
        return column.strings.strings.to_pylist(), column.values.astype(np.int64)
    positions, distinct = rank_values(column.values, column.is_missing)
    texts: list[str] = Column.of(column.type, distinct).to_text().to_pylist()
    return texts, positions


def apply_labels(column: Column, labels: Mapping[str, str]) -> tuple[Column, dict[str, int]]:
    """Replace codes by labels; also return each value without a label (it stays) with its number of cells."""
    texts, positions = encode_distinct(column)
    known = CodeList(labels)
    found = [known.label_of(text) for text in texts]
    counts = np.bincount(positions[positions >= 0], minlength=len(texts)).tolist()
    unlabelled = {text: count for text, label, count in zip(texts, found, counts, strict=True) if label is None}
    shown = [text if label is None else label for text, label in zip(texts, found, strict=True)]
    pool = Pool(pa.array(shown, pa.large_string()))
    return Column.of_strings(positions.astype(np.int32), pool, column.why, column.reasons), unlabelled
