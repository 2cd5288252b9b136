"""Measure deliveries beside the floor, in turn in one run: text files and the servers of this machine.

Usage: deliver.py [--rows 5000000] [--rounds 2] [--only WORD]

The floor of a text file is PyArrow reading the table and writing it as csv; of PostgreSQL a COPY from a ready file; of
MariaDB its own bulk load of a ready file; of SQLite one executemany of ready rows in one transaction. Reading back what
was delivered is told apart, and does not count.
"""

from __future__ import annotations

import argparse
import json
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
from inputs import compiled

WORK = Path(__file__).parent / "work" / "deliver"
POSTGRESQL = "postgresql://postgres@127.0.0.1/test"
MARIADB = "mysql://root@127.0.0.1/test"
COLUMNS = {
    "id": "VARCHAR(9)", "visit": "BIGINT", "seen_on": "DATE", "vessel": "VARCHAR(8)", "watch": "VARCHAR(5)",
    "sleep": "BIGINT", "steps": "BIGINT", "heart_rate": "DOUBLE PRECISION", "noise": "DOUBLE PRECISION",
    "mood": "BIGINT",
}  # fmt: skip


def made(rows: int) -> Path:
    """The table as Parquet, and as csv without a header for the servers."""
    file = WORK / f"{rows}.parquet"
    if not file.exists():
        WORK.mkdir(parents=True, exist_ok=True)
        random = np.random.default_rng(11)
        digits = pc.utf8_lpad(pc.cast(pa.array(random.integers(0, rows, rows)), pa.string()), 8, "0")
        gone = random.random(rows) < 0.05
        table = pa.table({
            "id": pc.binary_join_element_wise(pa.scalar("K"), digits, ""),
            "visit": random.integers(0, 5, rows) * 3,
            "seen_on": (np.datetime64("2024-01-01") + random.integers(0, 700, rows)).astype("datetime64[D]"),
            "vessel": pa.array(np.array([f"vessel{n}" for n in range(40)])[random.integers(0, 40, rows)]),
            "watch": pa.array(np.array(["day", "night", "split"])[random.integers(0, 3, rows)]),
            "sleep": pa.array(random.integers(300, 560, rows), mask=gone),
            "steps": pa.array(random.integers(0, 20_000, rows), mask=gone),
            "heart_rate": np.round(random.normal(63, 7, rows), 1),
            "noise": np.round(random.normal(60, 5, rows), 2),
            "mood": random.integers(0, 11, rows),
        })  # fmt: skip
        pq.write_table(table, file)
        pacsv.write_csv(
            table, file.with_suffix(".csv"), pacsv.WriteOptions(include_header=False, quoting_style="needed")
        )
    return file


OURS = """
import io, json, sys, time
from lomrix.core.steps.export.settings import Export
from lomrix.job.run import run
from lomrix.job.streams import Streams
from lomrix.job.task import Task
marks = []
settings = json.loads(sys.argv[3])
task = Task(Export(**settings), {"source": (sys.argv[1],)}, outputs={"out": sys.argv[2]}, overwrite=True)
run(task, Streams(io.BytesIO(), io.BytesIO()), lambda words: marks.append((words, time.perf_counter())))
end = time.perf_counter()
back = next((at for words, at in marks if words == "reading it back"), end)
print(end - back)
"""


def ours(file: Path, target: str, **settings: object) -> tuple[float, float]:
    """Seconds of a whole export without its reading back, and those of that."""
    started = time.perf_counter()
    words = [sys.executable, "-c", OURS, str(file), target, json.dumps(settings)]
    done = subprocess.run(words, capture_output=True, text=True, check=True)
    back = float(done.stdout)
    return time.perf_counter() - started - back, back


def timed(action: Callable[[], object]) -> float:
    started = time.perf_counter()
    action()
    return time.perf_counter() - started


def floor_text(file: Path, delimiter: str, header: bool) -> float:
    def write() -> None:
        options = pacsv.WriteOptions(delimiter=delimiter, include_header=header, quoting_style="none")
        pacsv.write_csv(pq.read_table(file), WORK / "floor.csv", options)

    return timed(write)


def create(quote: str) -> str:
    return ", ".join(f"{quote}{name}{quote} {type_}" for name, type_ in COLUMNS.items())


def floor_postgresql(file: Path) -> float:
    import psycopg

    with psycopg.connect(POSTGRESQL) as connection:
        connection.execute("DROP TABLE IF EXISTS bench_floor")

        def load() -> None:
            connection.execute(f"CREATE TABLE bench_floor ({create('')})")
            words = "COPY bench_floor FROM STDIN (FORMAT csv)"
            with connection.cursor().copy(words) as copy, file.with_suffix(".csv").open("rb") as content:
                while part := content.read(1 << 20):
                    copy.write(part)
            connection.commit()

        seconds = timed(load)
        connection.execute("DROP TABLE bench_floor")
    return seconds


def floor_mariadb(file: Path) -> float:
    sets = ", ".join(f"{name} = NULLIF(@{name}, '')" for name in ("sleep", "steps"))
    names = ", ".join(f"@{name}" if name in ("sleep", "steps") else name for name in COLUMNS)
    words = (
        f"DROP TABLE IF EXISTS bench_floor; CREATE TABLE bench_floor ({create('')}) ENGINE=InnoDB "
        "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin; "
        f"LOAD DATA LOCAL INFILE '{file.with_suffix('.csv')}' INTO TABLE bench_floor CHARACTER SET utf8mb4 "
        f"FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' LINES TERMINATED BY '\\n' ({names}) SET {sets};"
    )
    command = ["mariadb", "-h", "127.0.0.1", "-u", "root", "--local-infile=1", "test", "-e"]
    seconds = timed(lambda: subprocess.run([*command, words], check=True))
    subprocess.run([*command, "DROP TABLE bench_floor"], check=True)
    return seconds


def floor_sqlite(file: Path) -> float:
    place = WORK / "floor.db"
    place.unlink(missing_ok=True)
    table = pq.read_table(file)
    cells = {name: table.column(name) for name in COLUMNS}
    cells["seen_on"] = cells["seen_on"].cast(pa.string())
    rows = list(zip(*(column.to_pylist() for column in cells.values()), strict=True))

    def load() -> None:
        connection = sqlite3.connect(place)
        connection.execute(f"CREATE TABLE bench_floor ({create('')})")
        connection.executemany(f"INSERT INTO bench_floor VALUES ({', '.join('?' * len(COLUMNS))})", rows)
        connection.commit()
        connection.close()

    seconds = timed(load)
    place.unlink()
    return seconds


def clear(name: str) -> None:
    """Leave no large table on a server."""
    drop = "DROP TABLE IF EXISTS bench_ours"
    if name == "postgresql":
        import psycopg

        with psycopg.connect(POSTGRESQL) as connection:
            connection.execute(drop)
    if name == "mariadb":
        subprocess.run(["mariadb", "-h", "127.0.0.1", "-u", "root", "test", "-e", drop], check=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=5_000_000)
    parser.add_argument("--rounds", type=int, default=2)
    parser.add_argument("--only", default="")
    asked = parser.parse_args()
    compiled()
    file = made(asked.rows)
    jobs: dict[str, tuple[Callable[[], tuple[float, float]], Callable[[], float]]] = {
        "headed": (
            lambda: ours(file, str(WORK / "out.csv"), missing_code=["-9"]),
            lambda: floor_text(file, ",", True),
        ),
        "bare": (
            lambda: ours(file, str(WORK / "out.dat"), form="bare", missing_code=["-9"]),
            lambda: floor_text(file, " ", False),
        ),
        "fixed": (
            lambda: ours(file, str(WORK / "fixed.dat"), form="fixed", missing_code=["-9"]),
            lambda: floor_text(file, " ", False),
        ),
        "postgresql": (
            lambda: ours(file, f"{POSTGRESQL}#bench_ours", if_exists="replace"),
            lambda: floor_postgresql(file),
        ),
        "mariadb": (lambda: ours(file, f"{MARIADB}#bench_ours", if_exists="replace"), lambda: floor_mariadb(file)),
        "sqlite": (
            lambda: ours(file, f"sqlite:///{WORK / 'ours.db'}#bench_ours", if_exists="replace"),
            lambda: floor_sqlite(file),
        ),
    }
    print(f"{'job':<12} {'lomrix s':>9} {'floor s':>9} {'ratio':>6} {'read back s':>12}")
    for name, (mine, floor) in jobs.items():
        if asked.only in name:
            rounds = [(mine(), floor()) for _ in range(asked.rounds)]
            (seconds, back), least = min(one for one, _ in rounds), min(one for _, one in rounds)
            print(f"{name:<12} {seconds:>9.2f} {least:>9.2f} {seconds / least:>6.2f} {back:>12.2f}", flush=True)
            clear(name)


if __name__ == "__main__":
    main()
