"""Inputs for the measurements: made once per size, kept in bench/work."""

from __future__ import annotations

import compileall
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.parquet as pq


def compiled() -> None:
    """The program as it is once installed: not compiled again at each start, as some machines set up have it."""
    compileall.compile_dir(Path(__file__).parents[1] / "src", quiet=1)


def text_ids(numbers: Iterable[int]) -> pa.Array:
    """Ids such as K0001234."""
    digits = pc.utf8_lpad(pc.cast(pa.array(numbers), pa.string()), 8, "0")
    return pc.binary_join_element_wise(pa.scalar("K"), digits, "")


def write(table: pa.Table, stem: Path) -> None:
    """The same table as csv and as Parquet."""
    pacsv.write_csv(table, stem.with_suffix(".csv"), pacsv.WriteOptions(quoting_style="none"))
    pq.write_table(table, stem.with_suffix(".parquet"))


def long_inputs(folder: Path, cases: int, wide: dict[str, Any]) -> None:
    """The wide table as a long one in order, and one measure over 2,000 days in both layouts."""
    months, measures = (0, 3, 6, 12, 18), ("sleep", "heart_rate", "steps", "mood")
    order = pa.array(np.arange(5 * cases).reshape(5, cases).T.reshape(-1))
    long: dict[str, Any] = {
        "crew": text_ids(np.repeat(np.arange(cases), 5)),
        "month": np.tile(months, cases),
        "sex": np.repeat(wide["sex"], 5),
    }
    for name in measures:
        long[name] = pa.concat_arrays([wide[f"{name}_m{month}"] for month in months]).take(order)
    write(pa.table(long), folder / "long")
    few, days = max(cases // 400, 1), 2000
    hours = np.round(np.random.default_rng(8).normal(8, 2, (few, days)), 1)
    crew: Any = text_ids(np.arange(few))
    write(pa.table({"crew": crew, **{f"hours_d{day}": hours[:, day] for day in range(days)}}), folder / "daily_wide")
    rows = {"crew": crew.take(pa.array(np.repeat(np.arange(few), days))), "day": np.tile(np.arange(days), few)}
    write(pa.table({**rows, "hours": hours.reshape(-1)}), folder / "daily_long")


def spell_inputs(folder: Path, rows: int) -> None:
    """Two postings for each crew member, one after the other, and visits on some days of the same years."""
    random = np.random.default_rng(9)
    cases = max(rows // 5, 1)
    first = np.datetime64("2023-01-01") + random.integers(0, 200, cases)
    change = first + random.integers(60, 300, cases)
    crew: Any = text_ids(np.repeat(np.arange(cases), 2))
    until = np.stack([change, change + random.integers(100, 400, cases)], axis=1).reshape(-1)
    spells = {
        "crew": crew, "from": np.stack([first, change + np.timedelta64(1, "D")], axis=1).reshape(-1),
        "until": pa.array(until, mask=np.tile([False, True], cases) & (random.random(2 * cases) < 0.4)),
        "duty": pa.array(np.array(["bridge", "deck", "engine"])[random.integers(0, 3, 2 * cases)]),
    }  # fmt: skip
    write(pa.table(spells), folder / "postings")
    seen: dict[str, Any] = {
        "crew": text_ids(random.integers(0, cases, rows)),
        "day": np.datetime64("2023-01-01") + random.integers(0, 900, rows),
        "pulse": random.integers(45, 95, rows), "mood": random.integers(0, 11, rows),
    }  # fmt: skip
    write(pa.table(seen), folder / "seen")


def made(folder: Path, rows: int) -> None:
    """Make the inputs of one size where they are not there yet."""
    if (folder / "done").exists():
        return
    folder.mkdir(parents=True, exist_ok=True)
    random = np.random.default_rng(7)
    others = max(rows // 5, 1)
    numbers = random.permutation(2 * others)[:others] + 1
    key = random.choice(numbers, rows)
    key[random.random(rows) < 0.05] += 2 * others
    base = {
        "visit": random.integers(0, 4, rows) * 3,
        "sleep": random.integers(300, 560, rows),
        "heart_rate": np.round(random.normal(63, 7, rows), 1),
        "watch": pa.array(np.array(["day", "night", "split"])[random.integers(0, 3, rows)]),
        "vessel": pa.array(np.array([f"vessel{n}" for n in range(40)])[random.integers(0, 40, rows)]),
    }
    added = {
        "age": random.integers(18, 63, others),
        "noise": np.round(random.normal(60, 5, others), 1),
        "port": pa.array(np.array(["Auk Bay", "Gullhaven", "Ternwick"])[random.integers(0, 3, others)]),
    }
    write(pa.table({"crew": key, **base}), folder / "visits_integer")
    write(pa.table({"crew": numbers, **added}), folder / "crew_integer")
    write(pa.table({"crew": text_ids(key), **base}), folder / "visits_string")
    write(pa.table({"crew": text_ids(numbers), **added}), folder / "crew_string")
    cases = rows // 5
    wide: dict[str, Any] = {"crew": text_ids(np.arange(cases)), "sex": random.integers(1, 3, cases)}
    for name, middle in (("sleep", 430), ("heart_rate", 63), ("steps", 8200), ("mood", 5)):
        for month in (0, 3, 6, 12, 18):
            values = random.normal(middle, middle / 8, cases)
            gone = random.random(cases) < 0.06
            cells = np.round(values, 1) if name == "heart_rate" else np.rint(values).astype(np.int64)
            wide[f"{name}_m{month}"] = pa.array(cells, mask=gone)
    write(pa.table(wide), folder / "wide")
    long_inputs(folder, cases, wide)
    spell_inputs(folder, rows)
    register: dict[str, object] = {
        "id": text_ids(random.permutation(rows)),
        "born": (np.datetime64("1960-01-01") + random.integers(0, 15_000, rows)).astype("datetime64[D]"),
        "age": random.integers(16, 76, rows),
        "watch": pa.array(np.array(["day", "night", "split"])[random.integers(0, 3, rows)]),
        "port": pa.array(np.array(["Auk Bay", "Gullhaven", "Ternwick"])[random.integers(0, 3, rows)]),
    }
    register |= {f"score{at}": random.integers(0, 4, rows) for at in range(8)}
    register |= {f"level{at}": np.round(random.normal(50, 9, rows), 2) for at in range(4)}
    for at in range(3):
        cells = random.integers(100, 999, rows)
        register[f"count{at}"] = pa.array(cells, mask=random.random(rows) < 0.05)
    write(pa.table(register), folder / "register")
    groups: dict[str, object] = {"few": random.integers(0, 1000, rows), "many": random.integers(0, rows // 5, rows)}
    groups |= {"x": random.integers(0, 10_000, rows), "y": np.round(random.normal(50, 9, rows), 3)}
    write(pa.table(groups), folder / "groups")
    (folder / "done").touch()
