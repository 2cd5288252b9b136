"""Labels in the place of codes: a column's values as a person reads them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.codes import ranks
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool


def distinct_texts(column: Column) -> tuple[list[str], npt.NDArray[np.int64]]:
    """The distinct values of a column as texts, and for each cell the place of its value (-1 where missing)."""
    if column.type == "string":
        column = column.compact()
        return column.strings.strings.to_pylist(), column.values.astype(np.int64)
    places, distinct = ranks(column.values, column.is_missing)
    texts: list[str] = Column.of(column.type, distinct).to_text().to_pylist()
    return texts, places


def labelled(column: Column, labels: Mapping[str, str]) -> tuple[Column, dict[str, int]]:
    """A column with labels in the place of its codes.

    Parameters
    ----------
    column
        The column, n cells.
    labels
        Label of each code; a code is a stored value as text, or a range such as `2 to 4`.

    Returns
    -------
    A string column of n cells with the same reasons, and each value that has no label with its number of cells: it
    stays as it is.
    """
    texts, places = distinct_texts(column)
    known = CodeList(labels)
    told = [known.label_of(text) for text in texts]
    counts = np.bincount(places[places >= 0], minlength=len(texts)).tolist()
    without = {text: count for text, label, count in zip(texts, told, counts, strict=True) if label is None}
    shown = [text if label is None else label for text, label in zip(texts, told, strict=True)]
    pool = Pool(pa.array(shown, pa.large_string()))
    return Column.of_strings(places.astype(np.int32), pool, column.why, column.reasons), without
