"""Kinds of arrays, each with one name."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

# Values of any dtype.
Array = npt.NDArray[Any]
# Row positions, from 0; -1 for none.
Rows = npt.NDArray[np.int64]
# True for some rows.
Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]
