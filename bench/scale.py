"""Measure commands on tables larger than the memory budget: time, memory, and that the bytes are those of the whole.

Usage: scale.py [--rows 10000000] [--memory 300MB] [--suffix parquet] [--whole] [--workers 2] [--only WORD,WORD]
                [--cluster tcp://127.0.0.1:8786]

`--whole` runs each command without a budget too, and compares. Memory is that of the process alone (`own`), and with
the pages of mapped files that the system may take back at any time (`all`), in MB; `need` is what Lomrix estimates.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

from lomrix.cli.environment import Environment
from lomrix.cli.main import run
from lomrix.job import execution

BATCH = 2_000_000
PERSONS = 20_000


def make_minutes(start: int, rows: int, total: int) -> pa.Table:
    """Some minutes of wrist devices, person after person."""
    random = np.random.default_rng([7, start])
    index = np.arange(start, start + rows)
    person = index * PERSONS // total
    return pa.table(
        {
            "crew": pa.array(np.array([f"K{number:05}" for number in range(PERSONS)], object)[person], pa.string()),
            "minute": pa.array(index % (total // PERSONS)),
            "pulse": pa.array(random.integers(45, 120, rows)),
            "temp": pa.array(np.round(random.normal(33, 1, rows), 1), mask=random.random(rows) < 0.02),
            "mode": pa.array(random.integers(1, 5, rows)),
        }
    )


def make_visits(start: int, rows: int, total: int) -> pa.Table:
    """Some of ten visits of each person, person after person; the last columns stay the same."""
    random = np.random.default_rng([8, start])
    index = np.arange(start, start + rows)
    return pa.table(
        {
            "crew": pa.array(np.char.mod("K%08d", index // 10), pa.string()),
            "month": pa.array(index % 10 * 3),
            "sleep": pa.array(random.integers(300, 560, rows), mask=random.random(rows) < 0.02),
            "temp": pa.array(np.round(random.normal(33, 1, rows), 1)),
            "born": pa.array(1950 + index // 10 % 50),
        }
    )


def make_file(path: Path, rows: int, make_batch: Callable[[int, int, int], pa.Table]) -> None:
    """Write a file batch after batch, or a folder of Parquet files with two batches each."""
    if path.suffix == ".folder":
        path.mkdir()
        for number, start in enumerate(range(0, rows, 2 * BATCH), start=1):
            pq.write_table(make_batch(start, min(2 * BATCH, rows - start), rows), path / f"day_{number}.parquet")
        return
    if path.suffix == ".parquet":
        with pq.ParquetWriter(path, make_batch(0, 1, rows).schema) as writer:
            for start in range(0, rows, BATCH):
                writer.write_table(make_batch(start, min(BATCH, rows - start), rows))
        return
    with path.open("wb") as file:
        for start in range(0, rows, BATCH):
            batch = make_batch(start, min(BATCH, rows - start), rows)
            pacsv.write_csv(batch, file, pacsv.WriteOptions(include_header=not start, quoting_style="none"))


def make_people(path: Path) -> None:
    """Write a row for most persons."""
    lines = [f"K{number:05},{number % 3},{18 + number % 50}" for number in range(PERSONS + 500) if number % 7]
    path.write_text("crew,vessel,age\n" + "\n".join(lines) + "\n")
    Path(f"{path}-modes.csv").write_text("mode,name\n1,rest\n2,walk\n3,work\n")


def make_ledger(path: Path) -> None:
    """Write corrections of a row of some persons."""
    lines = [f"K{number:05},3,pulse,,,leave-out" for number in range(0, PERSONS, 50)]
    path.write_text("crew,minute,variable,old,new,action\n" + "\n".join(lines) + "\n")


def jobs(data: str, people: str, visits: str, ledger: str) -> dict[str, list[str]]:
    """The commands by name, without output and budget."""
    return {
        "subset": ["subset", data, "--where", "mode == 2 and pulse > 60"],
        "derive": ["derive", data, "warm = temp > 33.5", "double = pulse * 2"],
        "derive-case": [
            "derive", data, "c = change(pulse)", "m = case_mean(temp)", "--case", "crew", "--occasion", "minute"
        ],
        "aggregate": ["aggregate", data, "--by", "crew", "--stat", "pulse,temp: n mean sd median"],
        "aggregate-few": ["aggregate", data, "--by", "mode", "--stat", "pulse,temp: mean sd median"],
        "aggregate-min-n": [
            *("aggregate", data, "--by", "mode", "--stat", "temp: mean n"),
            *("--min-n", "5", "--case", "crew", "--totals"),
        ],
        "merge": ["merge", data, people, "--key", "crew", "--rows", "base"],
        "merge-few": ["merge", data, f"{people}-modes.csv", "--key", "mode", "--rows", "base"],
        "recode": ["recode", data, "--map", "mode: 1=day, 2=night, 3=missing:unknown", "--map", "pulse: 0 to 60=low"],
        "sort": ["subset", data, "--sort-by", "-pulse,minute"],
        "export": ["export", data, "--missing-code=-9", "--columns", "crew,minute,temp,mode"],
        "export-key": ["export", data, "--primary-key", "crew,minute", "--columns", "crew,minute,temp"],
        "export-bare": ["export", data, "--form", "bare", "--missing-code", "auto"],
        "export-package": [
            "export", data, people, "--form", "package", "--primary-key", "crew", "--codebook", f"{ledger}-codebook.md"
        ],
        "to-wide": ["to-wide", visits, "--case", "crew", "--occasion", "month", "--header", "{measure}_m{month}"],
        "one-per": ["subset", data, "--one-per", "crew,mode", "--pick", "latest:minute"],
        "sample": ["subset", data, "--sample", "500", "--case", "crew", "--where", "pulse > 60"],
        "correct": ["correct", data, "--ledger", ledger],
        "score": ["score", data, "--name", "s", "--items", "pulse,temp", "--method", "mean", "--at-least", "1"],
        "deidentify": [
            *("deidentify", visits, "--id", "crew", "--remove", "born", "--seed", f"{ledger}-seed", "--same-folder"),
            *("--linkage", f"{ledger}-linkage.csv"),
        ],
        "tally": ["tally", data, "mode", "--by", "pulse"],
        "profile": ["profile", data],
        "profile-ids": ["profile", visits],
        "report": ["report", data],
        "report-ids": ["report", visits, "--min-n", "5"],
        "compare": ["compare", data, "--measure", "pulse,temp", "--between", "mode"],
        "compare-adjusted": ["compare", data, "--measure", "temp", "--between", "mode", "--adjust", "pulse"],
        "compare-paired": [
            "compare", visits, "--measure", "sleep,temp", "--between", "month", "--paired-on", "crew", "--as-numbers"
        ],
        "coverage": ["coverage", visits, "--case", "crew", "--occasion", "month"],
    }  # fmt: skip


def list_tree(process: int) -> list[int]:
    """A process and all below it."""
    try:
        children = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    except OSError:
        children = []
    return [process, *(below for child in children for below in list_tree(int(child)))]


def read_memory(process: int) -> tuple[int, int]:
    """Own memory and all of a process, in KB; 0 if it has ended."""
    try:
        status = Path(f"/proc/{process}/status").read_text()
    except OSError:
        return 0, 0
    own, everything = (re.search(rf"{name}:\s*(\d+)", status) for name in ("RssAnon", "VmRSS"))
    return int(own[1]) if own else 0, int(everything[1]) if everything else 0


def measure(command: list[str]) -> tuple[float, float, float]:
    """Seconds, and the peaks of the processes' own memory and of all in MB."""
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    own = everything = 0
    while process.poll() is None:
        sizes = [read_memory(one) for one in list_tree(process.pid)]
        own = max(own, sum(size for size, _ in sizes))
        everything = max(everything, sum(size for _, size in sizes))
        time.sleep(0.02)
    if process.returncode:
        sys.exit(" ".join(command))
    return time.perf_counter() - started, own / 1024, everything / 1024


def estimate(words: list[str]) -> float:
    """What Lomrix estimates that a command needs as a whole, in MB."""
    needs: list[float] = []

    def record(options: object, inputs: list[Any], step: object, **more: bool) -> None:
        needs.append(sum(known.size for known in inputs) / 1e6)
        raise KeyboardInterrupt

    streams = (io.BytesIO(), io.StringIO(), io.StringIO(), io.BytesIO())
    with mock.patch.object(execution, "choose_way", record):
        run(Environment(words, *streams))
    return needs[0]


def digest(path: Path) -> str:
    """A hash of a file, or of those of a folder."""
    if path.is_dir():
        return " ".join(digest(file) for file in sorted(path.iterdir()))
    with path.open("rb") as file:
        return hashlib.file_digest(file, "blake2b").hexdigest()


def main() -> None:
    """Measure each command in parts, and as a whole if asked for."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--memory", default="300MB")
    parser.add_argument("--suffix", default="parquet", choices=("parquet", "csv", "folder"))
    parser.add_argument("--whole", action="store_true")
    parser.add_argument("--workers", default="1")
    parser.add_argument("--cluster", default="")
    parser.add_argument("--only", default="")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        data, people = Path(folder) / f"device.{options.suffix}", Path(folder) / "people.csv"
        make_file(data, options.rows, make_minutes)
        visits = Path(folder) / f"visits.{options.suffix}"
        make_file(visits, options.rows, make_visits)
        ledger = Path(folder) / "ledger.csv"
        make_people(people)
        make_ledger(ledger)
        size = sum(file.stat().st_size for file in (data.iterdir() if data.is_dir() else [data]))
        print(f"{options.rows:,} rows, {size / 1e9:.2f} GB on disk, budget {options.memory}")
        print(
            f"{'job':14}{'parts s':>9}{'own':>7}{'all':>7}{'whole s':>9}{'own':>7}{'need':>7}{'ratio':>7}  same bytes"
        )
        for name, words in jobs(str(data), str(people), str(visits), str(ledger)).items():
            if not name.startswith(tuple(options.only.split(","))):
                continue
            suffix = {"report": ".html", "report-ids": ".html", "export-bare": ".dat", "export-package": ""}
            out = Path(folder) / f"out{suffix.get(name, '.' + options.suffix)}"
            to = "--to" if name.startswith("export") else "--out"
            end = "/" if out.suffix == ".folder" else ""
            command = [sys.executable, "-m", "lomrix", *words, to, f"{out}{end}", "--overwrite", "--quiet"]
            command += ["--workers", options.workers] if options.workers != "1" else []
            command += ["--cluster", options.cluster, "--scratch", folder] if options.cluster else []
            seconds, own, everything = measure([*command, "--memory", options.memory])
            line = f"{name:14}{seconds:9.1f}{own:7.0f}{everything:7.0f}"
            if options.whole:
                of_parts = digest(out)
                whole, own_whole, _ = measure([*command, "--memory", "1TB"])
                need = estimate([*words, to, str(out), "--overwrite"])
                line += f"{whole:9.1f}{own_whole:7.0f}{need:7.0f}{seconds / whole:7.2f}  {of_parts == digest(out)}"
            print(line, flush=True)


if __name__ == "__main__":
    main()
