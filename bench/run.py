"""Measure whole commands beside the floor, in turn in one run; prints ratio and peak memory.

Usage: run.py [--rows 1000000 5000000] [--rounds 3] [--only WORD] [--keep]
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from inputs import compiled

HERE = Path(__file__).parent
STATISTICS = ["--stat", "sleep,heart_rate: n mean sd median"]
MAKE = "import sys; from pathlib import Path; from inputs import made; made(Path(sys.argv[1]), int(sys.argv[2]))"
# Ten expressions of the kinds that a study has.
TEN = [
    "old = age > 65", "age2 = age ** 2", "level = mean_of('level0..level3')", "low = min(level0, level1)",
    "z = standardised(level0)", "night = watch == 'night'", "since = days_between(born, '2024-06-01')",
    "grown = age_on(born, '2024-06-01')", "band = bands(age, 30, 45, 60)", "total = score0 + score1 + score2",
]  # fmt: skip
COURSE = [
    "change = change(sleep)", "first = first(sleep)", "mean = case_mean(sleep)", "sum = running_sum(steps)",
    "last = carried(mood)", "number = occasion_number()",
]  # fmt: skip
HEADER = ["--header", "{measure}_m{month}"]


def jobs(folder: Path, suffix: str) -> dict[str, tuple[list[str], list[str], str]]:
    """By name: the command without its output, its inputs, and the name of the output."""
    file = {path.stem: str(path) for path in folder.glob(f"*.{suffix}")}
    out = f"out.{suffix}"
    made_jobs = {}
    table = file["register"]
    for kind in ("integer", "string"):
        inputs = [file[f"visits_{kind}"], file[f"crew_{kind}"]]
        made_jobs[f"merge-{kind}"] = (["merge", *inputs, "--key", "crew", "--rows", "base"], inputs, out)
    wide, visits = file["wide"], file["visits_string"]
    made_jobs["to-long"] = (["to-long", wide, "--case", "crew", *HEADER], [wide], out)
    long = ["--case", "crew", "--occasion", "month"]
    made_jobs["to-wide"] = (["to-wide", file["long"], *long, *HEADER], [file["long"]], out)
    daily = ["--case", "crew", "--header", "{measure}_d{day}"]
    made_jobs["to-long-daily"] = (["to-long", file["daily_wide"], *daily], [file["daily_wide"]], out)
    made_jobs["to-wide-daily"] = (
        ["to-wide", file["daily_long"], *daily, "--occasion", "day"],
        [file["daily_long"]],
        out,
    )
    made_jobs["aggregate"] = (["aggregate", visits, "--by", "vessel,visit", *STATISTICS], [visits], out)
    for groups in ("few", "many"):
        command = ["aggregate", file["groups"], "--by", groups, "--stat", "x,y: mean sd median"]
        made_jobs[f"aggregate-{groups}"] = (command, [file["groups"]], out)
    made_jobs["derive-ten"] = (["derive", table, *TEN], [table], out)
    made_jobs["derive-course"] = (["derive", file["long"], *COURSE, *long], [file["long"]], out)
    # Cases whose rows stand in no order.
    made_jobs["derive-mean"] = (["derive", visits, "mean = case_mean(sleep)", "--case", "crew"], [visits], out)
    items = ["--name", "total", "--items", "score0..score7", "--reverse", "score1", "--span", "0:3", "--at-least", "6"]
    made_jobs["score"] = (["score", table, *items], [table], out)
    made_jobs["compare"] = (["compare", table, "--measure", "level0,level1,age", "--between", "watch"], [table], "")
    made_jobs["coverage"] = (["coverage", file["long"], *long], [file["long"]], "")
    made_jobs["changes"] = (["changes", table, table, "--key", "id"], [table, table], "")
    made_jobs["to-balanced"] = (["to-balanced", file["long"], *long], [file["long"]], out)
    made_jobs["export-headed"] = (["export", visits, "--missing-code", "-9"], [visits], "out.csv")
    made_jobs["export-bare"] = (["export", visits, "--form", "bare", "--missing-code", "auto"], [visits], "out.dat")
    parts = [visits, visits]
    made_jobs["stack"] = (["stack", *parts, "--mark", "wave=1,2"], parts, out)
    made_jobs["profile"] = (["profile", table], [table], "")
    made_jobs["check"] = (["check", table, "--key", "id"], [table], "")
    made_jobs["recode"] = (["recode", table, "--map", "watch: day=1, night=2, split=3"], [table], out)
    made_jobs["subset-two"] = (["subset", table, "--columns", "id,age"], [table], out)
    made_jobs["subset"] = (["subset", table, "--where", "age >= 30 and watch == 'day'"], [table], out)
    seen, postings = file["seen"], file["postings"]
    made_jobs["sort"] = (["subset", table, "--sort-by", "-age,id"], [table], out)
    latest = ["--one-per", "crew", "--pick", "latest:day", "--ties", "first"]
    made_jobs["one-per"] = (["subset", seen, *latest], [seen], out)
    made_jobs["one-per-first"] = (["subset", visits, "--one-per", "crew,visit", "--pick", "first"], [visits], out)
    made_jobs["sample"] = (["subset", visits, "--sample", "10000", "--case", "crew"], [visits], out)
    during = ["--key", "crew", "--during", "day=from..until", "--rows", "base"]
    made_jobs["during"] = (["merge", seen, postings, *during], [seen, postings], out)
    spell = ["--case", "crew", "--spell", "from..until", "--every", "month", "--until", "2025-06-30"]
    made_jobs["spells"] = (["to-long", postings, *spell], [postings], out)
    made_jobs["check-spells"] = (["check", postings, "--case", "crew", "--spell", "from..until"], [postings], "")
    adjusted = ["--measure", "level0", "--between", "watch", "--adjust", "level1,level2,age"]
    made_jobs["adjusted"] = (["compare", table, *adjusted], [table], "")
    made_jobs["stayed"] = (["coverage", file["long"], *long, "--by", "sex"], [file["long"]], "")
    return made_jobs


def measured(command: list[str]) -> tuple[float, float]:
    """Seconds and peak memory in MB of one command."""
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    seconds = time.perf_counter() - started
    if process.returncode:
        sys.exit(" ".join(command))
    return seconds, usage.ru_maxrss / 1024


LIBRARIES = "import typer, numpy, pyarrow.csv"
# A command of one option made with Typer, and nothing else: what no command can go below.
BARE = """
import typer
app = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)
@app.command()
def run(source: str, out: str = "") -> None:
    import numpy, pyarrow.csv
app()
"""


def start_up(folder: Path) -> None:
    """The program on nothing, and on a file of two rows, beside the libraries that it cannot do without."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "two.csv").write_text("id,x\n1,2\n3,4\n")
    program = str(Path(sys.executable).parent / "lomrix")
    small = [program, "subset", str(folder / "two.csv"), "--where", "x > 2", "--out", str(folder / "out.csv")]
    commands = {
        "import typer": [sys.executable, "-c", "import typer"],
        "lomrix --help": [program, "--help"],
        LIBRARIES: [sys.executable, "-c", LIBRARIES],
        "a bare command of Typer's with NumPy and PyArrow": [sys.executable, "-c", BARE, "x"],
        "subset of two rows": [*small, "--overwrite"],
    }
    times = dict.fromkeys(commands, 9e9)
    for _ in range(9):
        for name, command in commands.items():
            times[name] = min(times[name], measured(command)[0])
    for name, seconds in times.items():
        floor = "import typer" if name == "lomrix --help" else LIBRARIES
        print(f"{name}: {seconds:.3f} s, {seconds / times[floor]:.2f} times `{floor}`")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, nargs="+", default=[1_000_000, 5_000_000])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", default="")
    parser.add_argument("--keep", action="store_true", help="keep the inputs for the next run")
    asked = parser.parse_args()
    compiled()
    start_up(HERE / "work" / "start")
    program = str(Path(sys.executable).parent / "lomrix")
    heads = f"{'rows':>9}  {'job':<15} {'files':<8} {'lomrix s':>8} {'floor s':>8} {'ratio':>6}"
    print(f"{heads} {'lomrix MB':>9} {'floor MB':>9}")
    for rows in asked.rows:
        folder = HERE / "work" / str(rows)
        # Made in a process of its own: a child's peak memory is never counted as less than its parent's.
        subprocess.run([sys.executable, "-c", MAKE, str(folder), str(rows)], check=True, cwd=HERE)
        for suffix in ("csv", "parquet"):
            for name, (command, inputs, out) in jobs(folder, suffix).items():
                if not any(word in f"{name} {suffix}" for word in asked.only.split(",")):
                    continue
                output = folder / out
                target = ["--to" if name.startswith("export") else "--out", str(output), "--overwrite"]
                target = [*(target if out else []), "--quiet"]
                ours, floor = (9e9, 0.0), (9e9, 0.0)
                for _ in range(asked.rounds):
                    ours = min(ours, measured([program, *command, *target]))
                    started = time.perf_counter()
                    told = subprocess.run(
                        [sys.executable, str(HERE / "floor.py"), str(output) if out else "", *inputs],
                        capture_output=True,
                        text=True,
                        check=True,
                    )
                    seconds = time.perf_counter() - started
                    loading, memory = map(float, told.stdout.split())
                    floor = min(floor, (seconds - loading, memory))
                print(
                    f"{rows:>9,}  {name:<15} {suffix:<8} {ours[0]:>8.2f} {floor[0]:>8.2f} {ours[0] / floor[0]:>6.2f} "
                    f"{ours[1]:>9,.0f} {floor[1]:>9,.0f}",
                    flush=True,
                )
        if not asked.keep:
            shutil.rmtree(folder)


if __name__ == "__main__":
    main()
