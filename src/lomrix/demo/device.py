"""The wrist devices of the demo study: a row a minute for each crew member, in a file for each day."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from lomrix.core.arrays.types import Array
from lomrix.demo.study import SEED, START

FOLDER = "device"
MINUTES = 24 * 60
NIGHT_FROM, NIGHT_UNTIL = 23 * 60, 7 * 60
# Share of the minutes in which a device lies in a drawer, in pieces of this many minutes.
NOT_WORN, PIECE = 0.06, 90
STRANGER = "7777"  # a device that nobody on the roster has


def write_device(folder: Path, crew: Array, days: int) -> int:
    """Write the files of some days, and return the number of rows."""
    (folder / FOLDER).mkdir()
    crew = np.append(np.unique(crew[crew != ""]), STRANGER)
    for day in range(1, days + 1):
        pq.write_table(make_day(crew, day), folder / FOLDER / f"day_{day}.parquet")
    return len(crew) * MINUTES * days


def list_device_files(days: int) -> list[str]:
    """List the names of the files."""
    return [f"{FOLDER}/day_{day}.parquet" for day in range(1, days + 1)]


def make_day(crew: Array, day: int) -> pa.Table:
    """Make the minutes of one day: movements, and the temperature of the skin while the device is worn."""
    random = np.random.default_rng([SEED, day])
    minute = np.arange(MINUTES)
    sleeps = (minute >= NIGHT_FROM) | (minute < NIGHT_UNTIL)
    shape = (len(crew), MINUTES)
    movements = random.poisson(np.where(sleeps, 2, 38), shape)
    temperature = np.round(random.normal(np.where(sleeps, 34.1, 32.6), 0.5, shape), 1)
    pieces = random.random((len(crew), MINUTES // PIECE)) < NOT_WORN
    is_off = np.repeat(pieces, PIECE, axis=1)
    start = START.astype("datetime64[m]") + np.timedelta64((day - 1) * MINUTES, "m")
    return pa.table(
        {
            "crew_id": pa.array(np.repeat(crew.astype(object), MINUTES), pa.string()),
            "at": pa.array(np.tile((start + minute).astype("datetime64[us]"), len(crew))),
            "movements": pa.array(np.where(is_off, 0, movements).ravel()),
            "skin_temp": pa.array(temperature.ravel(), mask=is_off.ravel()),
        }
    )
