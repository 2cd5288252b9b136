"""The distinct values of a column as texts, and what a look at them tells."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column

# Among whole numbers, cells with decimals are told where they are at most this share.
FEW = 0.05
# Texts are held against each other in columns of so many distinct ones, few beside the rows.
MOST_TEXTS = 5_000
FEW_TEXTS = 20


def distinct_cells(column: Column) -> tuple[npt.NDArray[np.int32], list[str], Array]:
    """Place of each cell among the distinct texts (-1: missing), those texts, and the number of cells of each."""
    if column.type == "string":
        column = column.compact()
        places, texts = column.values, column.strings.texts()
    else:
        encoded = column.to_arrow().dictionary_encode()
        indices = encoded.indices
        places = np.asarray((indices.fill_null(-1) if indices.null_count else indices).to_numpy(), np.int32)
        values = encoded.dictionary.to_numpy(zero_copy_only=False)
        texts = [without_point(text) for text in Column.of(column.type, values).to_text().to_pylist()]
    return places, texts, np.bincount(places[places >= 0], minlength=len(texts))


def without_point(text: str) -> str:
    """A number's text without a needless decimal point: 3.0 is 3."""
    return text.removesuffix(".0")


def not_listed(column: Column, listed: list[str]) -> Array:
    """Rows whose value is not among the listed values or ranges."""
    places, texts, _ = distinct_cells(column)
    bad = np.append(_are_not_listed(column, texts, listed), False)
    return np.flatnonzero(bad[places])


def texts_not_listed(column: Column, listed: list[str]) -> list[str]:
    """The different values that are not among the listed values or ranges, as texts."""
    _, texts, counts = distinct_cells(column)
    bad = _are_not_listed(column, texts, listed) & (np.asarray(counts) > 0)
    return [texts[at] for at in np.flatnonzero(bad).tolist()]


def _are_not_listed(column: Column, texts: list[str], listed: list[str]) -> npt.NDArray[np.bool_]:
    codes = CodeList(dict.fromkeys(listed, ""))
    fits = [codes.code_of(text, as_numbers=column.type != "string") is not None for text in texts]
    return ~np.array(fits, np.bool_)


def nearly_same_texts(column: Column) -> list[list[tuple[str, int]]]:
    """Distinct texts of a column that differ by capitals or blanks only, with their numbers of cells.

    Examples
    --------
    >>> nearly_same_texts(Column.of_cells("string", ["carnica", "CARNICA", "carnica", "ligustica"]))
    [[('carnica', 2), ('CARNICA', 1)]]
    """
    if column.type != "string" or (len(column) > MOST_TEXTS and not column.strings.seems_repetitive()):
        return []
    _, texts, counts = distinct_cells(column)
    if len(texts) > MOST_TEXTS or len(texts) > FEW_TEXTS + len(column) // 2:
        return []
    alike: dict[str, list[tuple[str, int]]] = {}
    for text, count in zip(texts, counts.tolist(), strict=True):
        if count:
            alike.setdefault(" ".join(text.casefold().split()), []).append((text, count))
    return [sorted(group, key=lambda one: -one[1]) for group in alike.values() if len(group) > 1]


def mixed_decimals(column: Column) -> Array:
    """Rows with decimals in a column whose other cells are whole numbers."""
    values = column.values
    with np.errstate(invalid="ignore"):
        fraction = values != np.floor(values)
    if column.why is not None:
        fraction &= column.why == 0
    count = int(np.count_nonzero(fraction))
    few = 0 < count <= FEW * (len(column) - column.missing_count)
    return np.flatnonzero(fraction) if few else np.zeros(0, np.int64)
