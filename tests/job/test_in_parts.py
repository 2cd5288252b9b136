"""Files larger than the memory budget: the same bytes and the same account, nothing left in the scratch folder."""

from __future__ import annotations

import multiprocessing
import os
import random
import subprocess
import sys
import time
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.combining import PartsDifferError, Shown, Words
from lomrix.core.steps.aggregate import few_groups
from lomrix.core.table.column import Column
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table
from lomrix.files import delimited, folder_sink, json_lines, scratch, transport
from lomrix.files.scratch import Scratch, TableStore
from lomrix.files.transport import receive, send
from lomrix.job import budget
from lomrix.job.memory import OutOfMemoryError
from lomrix.job.workers import Workers
from tests.tables import lomrix

ROWS = 6000


@pytest.fixture(autouse=True)
def small(monkeypatch: pytest.MonkeyPatch) -> None:
    """Budgets and blocks that a small file exceeds."""
    monkeypatch.setattr(budget, "LEAST", 1000)
    monkeypatch.setattr(budget, "WORTHWHILE", 1000)
    monkeypatch.setattr(delimited, "BLOCK", 1 << 14)
    monkeypatch.setattr(delimited, "PIECE", 1 << 15)
    monkeypatch.setattr(folder_sink, "ROWS_IN_A_FILE", 2500)
    monkeypatch.setattr(json_lines, "LARGE", 1 << 14)
    monkeypatch.setattr(json_lines, "BLOCK", 1 << 14)


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Minutes of a device with what real files have, as text and in other formats, and the people."""
    folder = tmp_path_factory.mktemp("study")
    draw = random.Random(5)
    lines = ["crew,minute,pulse,temp,mode,day,note"]
    for row in range(ROWS):
        pulse = "n/a" if row == 4100 else draw.randint(45, 120)
        temp = "" if draw.random() < 0.1 else f"{draw.gauss(33, 1):.{1 if row < 3000 else 2}f}"
        note = f'"late, {row}"' if row % 997 == 0 else draw.choice(["", "ok", " spaced"])
        mode = "x" if row == 5200 else draw.randint(1, 4)
        day = f"2024-03-{1 + row % 28:02}" + (" 10:30" if row == 3500 else "")
        lines.append(f"K{draw.randint(0, 60)},{row},{pulse},{temp},{mode},{day},{note}")
    (folder / "device.csv").write_text("\n".join(lines) + "\n")
    (folder / "total.csv").write_text("\n".join([*lines, "", "Total,6000,,,,,", "Source: the devices,,,,,,"]))
    (folder / "plain.csv").write_text("\n".join(line.replace('"late, ', "late ").replace('"', "") for line in lines))
    (folder / "wide.csv").write_text("\n".join(["crew,minute,p1,p2,mode,day,note", *lines[1:]]) + "\n")
    people = [f"K{number},{number % 3}" for number in range(70) if number % 5]
    (folder / "people.csv").write_text("crew,vessel\n" + "\n".join(people) + "\n")
    ranks = [f"K{number},{number % 7},{number % 3}" for number in range(75) if number % 4]
    (folder / "ranks.csv").write_text("crew,rank,vessel\n" + "\n".join(ranks) + "\n")
    visits = [f"k{draw.randint(0, 60)} ,{draw.randint(0, ROWS)},{number}" for number in range(800)]
    (folder / "visits.csv").write_text("crew,at,mood\n" + "\n".join(visits) + "\n")
    entries = ["minute,variable,old,new,action", "5200,mode,x,2,set", "17,day,2024-03-18,,leave-out"]
    entries += ["4000,temp,,33.5,set", "3500,day,2024-03-01 10:30,2024-03-01,note"]
    (folder / "ledger.csv").write_text("\n".join(entries) + "\n")
    (folder / "seed").write_text("s" * 40 + "\n")
    for suffix in ("parquet", "arrow", "jsonl"):
        lomrix("export", "device.csv", "--to", f"device.{suffix}", cwd=folder)
    (folder / "days").mkdir()
    for number, start in enumerate((0, 2000, 4000), start=2):
        some = [line.replace(",x,", ",1,") for line in lines[1 + start : 2001 + start]]
        (folder / "days" / f"d{number * 4}.csv").write_text("\n".join([lines[0], *some]) + "\n")
    return folder


WORK = {
    "subset": ["--where", "temp > 33 and pulse > 50"],
    "one per": ["--one-per", "crew,mode", "--pick", "latest:minute", "--left-out", "left.csv"],
    "subset footer": ["--where", "temp > 33", "--skip-last", "Tot*"],
    "sort": ["--sort-by", "-mode,temp,day"],
    "derive": ["warm = temp - 33", "high = pulse > 100"],
    "derive in cases": ["c = change(temp)", "m = case_mean(temp)", "--case", "crew", "--occasion", "minute"],
    "correct": ["--ledger", "ledger.csv", "--partly"],
    "score": ["--name", "s", "--items", "pulse,temp", "--method", "mean", "--at-least", "1"],
    "deidentify": [
        *("--id", "crew", "--remove", "note", "--shift", "day", "--quasi-identifiers", "mode"),
        *("--seed", "seed", "--linkage", "deidentify-linkage.csv", "--same-folder"),
    ],
    "recode": ["--map", "pulse: 0 to 60=1, others=2", "--map", "note: ok=fine", "--map", "mode: x=missing:lost"],
    "to-long": ["--header", "{measure}{n}", "--case", "crew", "--constant", "day,note"],
    "export": ["--missing-code", "n/a", "--missing-code=pulse:-9", "--names-max", "4"],
    "export fixed": ["--form", "fixed", "--columns", "crew,temp,mode", "--codebook", "left.xml"],
    "export bare": ["--form", "bare", "--missing-code", "auto", "--primary-key", "minute", "--codebook", "left.md"],
    "export package": ["people.csv", "--form", "package", "--primary-key", "crew", "--companion", "left.txt"],
    "aggregate": ["--by", "crew,day", "--stat", "pulse,temp: n mean sd median"],
    "aggregate totals": [
        "--by",
        "note,mode",
        "--stat",
        "pulse,temp: n mean sd median",
        "--totals",
        "--min-n",
        "58",
        "--case",
        "crew",
    ],
    "aggregate bands": ["--by", "bands(pulse, 60, 80),mode", "--stat", "temp: mean"],
    "merge several": ["people.csv", "ranks.csv", "--key", "crew", "--expect", "many-to-one", "--conflicts", "c.csv"],
    "merge near": ["visits.csv", "--key", "crew", "--near", "minute=at", "--within", "9", "--tidy-keys", "spaces,case"],
    "stack": ["ranks.csv"],
    "coverage": ["--case", "crew", "--occasion", "day,mode"],
    "report": ["--min-n", "3"],
    "to-wide": ["--case", "crew", "--occasion", "mode", "--header", "{measure}_{mode}", "--repeated", "mean"],
    "merge": ["people.csv", "--key", "crew", "--expect", "many-to-one", "--status", "from", "--unmatched", "left.csv"],
}


OTHER = ("subset footer", "export fixed", "export bare", "export package", "to-long", "report")
CASES = [
    *(("device.csv", "csv", work) for work in WORK if work not in OTHER),
    *(("device.parquet", "parquet", work) for work in ("sort", "derive in cases", "recode", "merge near", "to-wide")),
    ("device.arrow", "parquet", "subset"), ("device.jsonl", "csv", "score"),
    ("device.jsonl", "parquet", "correct"), ("days/", "csv", "aggregate"), ("days/", "parquet", "derive"),
    ("days/*.csv", "csv", "merge"), ("device.csv", "dat", "export fixed"), ("wide.csv", "parquet", "to-long"),
    ("device.csv", "html", "report"), ("device.csv", "dat", "export bare"),
    ("device.parquet", "folder", "export package"), ("total.csv", "csv", "subset footer"),
]  # fmt: skip


@pytest.mark.parametrize(("source", "suffix", "work"), CASES)
def test_parts_of_a_file_give_the_same_bytes(study: Path, tmp_path: Path, source: str, suffix: str, work: str) -> None:
    made: list[dict[str, bytes]] = []
    reports = []
    out = study / f"{work}.{suffix}"
    for number, options in enumerate(([], ["--memory", "0.2MB", "--scratch", str(tmp_path)])):
        word, to = (
            work.split()[0].replace("one", "subset").replace("sort", "subset"),
            "--to" if work.startswith("export") else "--out",
        )
        words = [word, source, *WORK[work], to, str(out), "--overwrite"]
        output, error = lomrix(*words, *options, cwd=study)
        assert ("processed in" in output) == bool(number), output + error
        reports.append([line for line in output.splitlines() if line and "processed in" not in line])
        files = [file for pattern in (f"{out.stem}*", f"{out.name}/*", "left.*") for file in study.glob(pattern)]
        made.append({file.name: file.read_bytes() for file in files if file.is_file()})
    assert made[0] == made[1]
    assert reports[0] == reports[1]
    assert not list(tmp_path.iterdir())


SHARED = [("recode", "plain.csv", "w/"), ("merge", "days/", "w.csv"), ("subset", "device.arrow", "w.jsonl")]


@pytest.mark.parametrize(("work", "source", "out"), SHARED)
def test_workers_read_and_write_the_same_bytes(study: Path, tmp_path: Path, work: str, source: str, out: str) -> None:
    made = []
    for options in ([], ["--memory", "0.2MB"], ["--memory", "1GB"]):
        options += ["--scratch", str(tmp_path), "--workers", "2"] if options else []
        output, _ = lomrix(work, source, *WORK[work], "--out", out, "--overwrite", *options, cwd=study)
        made.append([file.read_bytes() for file in sorted(study.glob("w.*") if out[-1] != "/" else study.glob("w/*"))])
        assert ("parts by 2 workers" in output) == bool(options)
        assert ("to stay within the memory limit" in output) == ("0.2MB" in options)
    assert made[0] == made[1] == made[2]
    assert not list(tmp_path.iterdir())


def test_many_workers_do_not_lose_what_others_sent(tmp_path: Path) -> None:
    scratch = Scratch.make(str(tmp_path))
    cells = [np.arange(1000) + number for number in range(20)]
    with Workers(2, scratch) as workers:
        workers.count = 12  # so many are on their way at once
        made = list(workers.run(np.negative, [(values,) for values in cells]))
    assert all((made[number] == -values).all() for number, values in enumerate(cells))
    assert not list(scratch.folder.iterdir())
    scratch.remove()


def test_workers_find_what_is_wrong_with_the_data(study: Path) -> None:
    words = ["merge", "device.csv", "people.csv", "--key", "crew", "--expect", "one-to-one", "--memory", "0.2MB"]
    assert len({lomrix(*words, "--workers", number, cwd=study, status=1)[1] for number in "12"}) == 1
    assert (
        "only one part, so --workers had no effect"
        in lomrix("check", "people.csv", "--workers", "2", "--memory", "1GB", cwd=study, status=None)[0]
    )


def test_a_script_that_calls_workers_runs_once(tmp_path: Path) -> None:
    (tmp_path / "script.py").write_text(
        "from lomrix.files.scratch import Scratch\nfrom lomrix.job.workers import Workers\nprint('begun')\n"
        "with Workers(2, Scratch.make('.')) as workers:\n    print(list(workers.run(abs, [(-1,), (2,)])))\n"
    )
    command = [sys.executable, "script.py"]
    output = subprocess.run(command, cwd=tmp_path, check=True, capture_output=True, text=True).stdout
    assert output == "begun\n[1, 2]\n"


def test_a_worker_that_is_killed_ends_the_command(tmp_path: Path) -> None:
    with (
        pytest.raises(OutOfMemoryError, match="ended by the system"),
        Workers(2, Scratch.make(str(tmp_path))) as workers,
    ):
        list(workers.run(os._exit, [(9,)]))
    # The pool's own thread may still be about to notice that its process has ended.
    deadline = time.monotonic() + 10
    while multiprocessing.active_children() and time.monotonic() < deadline:
        time.sleep(0.1)
    assert not multiprocessing.active_children()


WHOLE_NOTES = [
    "read to disk first to stay within the memory limit",
    "there is only one part; --workers helped to read the files",
]


@pytest.mark.parametrize(
    ("words", "memory", "notes", "status"),
    [
        (("profile",), "0.25MB", ["by 2 workers"], 0),
        (("tally", "mode", "--by", "crew"), "0.25MB", ["by 2 workers"], 0),
        (("check", "--key", "crew,minute"), "0.5MB", WHOLE_NOTES, 1),
    ],
)
def test_reports_of_a_table_on_disk_are_the_same(
    study: Path, tmp_path: Path, words: tuple[str, ...], memory: str, notes: list[str], status: int
) -> None:
    command = [words[0], "device.parquet", *words[1:]]
    (whole, _), (on_disk, _) = (
        lomrix(*command, *options, cwd=study, status=status)
        for options in ([], ["--memory", memory, "--scratch", str(tmp_path), "--workers", "2"])
    )
    assert all(note in on_disk for note in notes)
    others = [
        [line for line in output.splitlines() if line and not any(word in line for word in [*notes, "next  "])]
        for output in (on_disk, whole)
    ]
    assert others[0] == others[1]
    assert not list(tmp_path.iterdir())


def test_a_word_for_missing_stays_text_in_a_column_of_text(tmp_path: Path) -> None:
    lines = [f"{row},{'Ann' if row < 2000 else 'n/a'}" for row in range(6000)]  # the last blocks hold nothing else
    (tmp_path / "a.csv").write_text("\n".join(["id,mate", *lines]) + "\n")
    made = []
    for options in ([], ["--memory", "0.1MB"]):
        output, _ = lomrix("subset", "a.csv", "--out", "o.csv", "--overwrite", *options, cwd=tmp_path)
        made.append((tmp_path / "o.csv").read_text())
    assert "processed in" in output
    assert made[0] == made[1] == (tmp_path / "a.csv").read_text()
    # Of numbers the words come first here, and the spaces are noted first.
    numbers = {5: "n/a", 5999: " 5"}
    (tmp_path / "a.csv").write_text(
        "\n".join(["id,x", *(f"{row},{numbers.get(row, 5)}" for row in range(6000))]) + "\n"
    )
    whole, parts = (lomrix("subset", "a.csv", *options, cwd=tmp_path)[0] for options in ([], ["--memory", "0.1MB"]))
    assert [line for line in parts.splitlines() if "  ! " in line] == [
        line for line in whole.splitlines() if "  ! " in line
    ]
    assert whole.index("a space") < whole.index('"n/a" means missing')


def test_files_of_a_folder_with_other_types_are_named(tmp_path: Path) -> None:
    (tmp_path / "days").mkdir()
    for day, cells in ((1, ""), (2, "2024-01-31"), (3, "2024-01-31 10:00"), (10, "7")):
        (tmp_path / "days" / f"day_{day}.csv").write_text("id,at\n" + f"a,{cells}\n" * 1500)
    words = ["aggregate", "days/", "--by", "id", "--stat", "at: n"]
    errors = [lomrix(*words, *options, cwd=tmp_path, status=3)[1] for options in ([], ["--memory", "0.1MB"])]
    assert errors[0] == errors[1]
    assert errors[0].splitlines()[0] == "error  at is date in day_2 and integer in day_10."


def test_what_compares_all_rows_is_refused_before_work(study: Path, tmp_path: Path) -> None:
    out = study / "sorted.csv"
    _, error = lomrix(
        "subset",
        "device.csv",
        "--where",
        "rank(pulse) > 3",
        "--out",
        str(out),
        "--memory",
        "0.2MB",
        cwd=study,
        status=3,
    )
    assert error.splitlines()[1] == "where  about 0.9 MB are needed, 0.2 MB may be used; device has about 6,000 rows"
    assert not out.exists()
    for memory in ("much", "4", "-4GB", "0.0001MB"):
        lomrix("subset", "device.csv", "--columns", "crew", "--memory", memory, cwd=study, status=2)


def test_an_error_in_one_part_is_that_of_the_whole(study: Path) -> None:
    (study / "doubtful.csv").write_text((study / "people.csv").read_text() + "K1,9\nK3,9\n")
    words = ["merge", "device.csv", "doubtful.csv", "--key", "crew", "--expect", "many-to-one"]
    whole, parts = (lomrix(*words, *more, cwd=study, status=1) for more in ([], ["--memory", "0.2MB"]))
    assert whole == parts
    assert "2 keys repeat in doubtful: K1 (rows 2, 58); K3 (rows 4, 59)" in whole[1]


def test_scratch_is_checked_and_cleaned(study: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ended = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, text=True)
    left = tmp_path / f"lomrix-{ended.stdout.strip()}-0123abcd"
    left.mkdir()
    other = tmp_path / "lomrix-notes"
    other.mkdir()
    words = ["subset", "device.csv", "--columns", "crew", "--memory", "0.05MB", "--scratch", str(tmp_path)]
    lomrix(*words, cwd=study)
    assert list(tmp_path.iterdir()) == [other]
    monkeypatch.setattr(Scratch, "require_space", lambda self, size: None)
    monkeypatch.setattr("lomrix.files.scratch.append_bytes", fill_disk)
    _, error = lomrix(*words, "--out", "o.csv", cwd=study, status=3)
    assert error.splitlines()[0] == f"error  The scratch folder {tmp_path} cannot hold more."
    assert not (study / "o.csv").exists()
    assert list(tmp_path.iterdir()) == [other]


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no full device here")
def test_partitions_on_a_full_disk_are_one_plain_error(study: Path, tmp_path: Path) -> None:
    paths = Scratch.make_path

    def make_path(scratch: Scratch) -> Path:
        path = paths(scratch)
        # The first is the table that is read, the second has the first partitions.
        if scratch.count == 2:
            path.symlink_to("/dev/full")
        return path

    words = ["aggregate", "device.csv", "--by", "crew,day,temp", "--stat", "pulse: mean", "--out", "full.csv"]
    with mock.patch.object(Scratch, "make_path", make_path), mock.patch.object(transport, "LARGE", 0):
        _, error = lomrix(*words, "--memory", "0.3MB", "--scratch", str(tmp_path), cwd=study, status=3)
    assert error.splitlines()[0] == f"error  The scratch folder {tmp_path} cannot hold more."
    assert not (study / "full.csv").exists()
    assert not list(tmp_path.iterdir())


def test_totals_of_too_many_groups_are_one_plain_error(study: Path) -> None:
    words = ["aggregate", "device.parquet", "--by", "crew,day", "--totals", "--out", "many.csv"]
    with mock.patch.object(few_groups, "MOST_TOGETHER", 1000):
        _, error = lomrix(*words, "--memory", "0.3MB", cwd=study, status=3)
        # With memory for all rows they are aggregated at once, as before.
        lomrix(*words, "--memory", "0.6MB", cwd=study)
    assert "There is not enough memory for aggregate with these settings" in error
    assert (study / "many.csv").exists()


def fill_disk(*_: Any, **__: Any) -> Any:
    raise OSError(28, "No space left on device")


def test_files_that_are_one_table_have_the_same_columns(study: Path, tmp_path: Path) -> None:
    (tmp_path / "a1.csv").write_text("id,x\nK1,1\n")
    (tmp_path / "a2.csv").write_text("x,id\n2,K2\n")
    output, _ = lomrix("subset", "a*.csv", "--columns", "id,x", cwd=tmp_path)
    assert "2 files read as one table, a1 to a2" in output
    assert ["K1", "1"] in [line.split() for line in output.splitlines()]
    assert ["K2", "2"] in [line.split() for line in output.splitlines()]
    (tmp_path / "a2.csv").write_text("x,id\n2,K2\nn/a,K3\n")
    for options in ([], ["--memory", "0.001MB"]):
        assert (
            '"n/a" means missing among the values, once. (row 4 "n/a")'
            in lomrix("subset", "a*.csv", "--where", "x > 0", *options, cwd=tmp_path)[0]
        )
    (tmp_path / "a3.csv").write_text("id,y\nK2,2\n")
    assert "only in a3: y; only in a1: x" in lomrix("profile", "a*.csv", cwd=tmp_path, status=3)[1]
    (tmp_path / "a3.csv").write_text("id,x\nK2,soon\n")
    assert "x is integer in a1 and string in a3" in lomrix("profile", "a*.csv", cwd=tmp_path, status=3)[1]
    assert "several formats: .csv, .parquet" in lomrix("profile", "mixed", cwd=mix(study, tmp_path), status=3)[1]
    assert "No files matched b*.csv" in lomrix("profile", "b*.csv", cwd=tmp_path, status=3)[1]


def mix(study: Path, folder: Path) -> Path:
    (folder / "mixed").mkdir()
    for name in ("device.parquet", "people.csv"):
        (folder / "mixed" / name).write_bytes((study / name).read_bytes())
    return folder


CELLS: dict[str, st.SearchStrategy[Any]] = {
    "integer": st.integers(-9, 9), "number": st.sampled_from([1.5, -0.0, 1e300]), "boolean": st.booleans(),
    "string": st.sampled_from(["", "a", "öb"]), "date": st.dates(), "datetime": st.datetimes(),
}  # fmt: skip
PARTS = st.sampled_from(["integer number", "date datetime", "string", "boolean", "number"]).flatmap(
    lambda types: st.lists(
        st.sampled_from(types.split()).flatmap(
            lambda type_: st.tuples(st.just(type_), st.lists(st.none() | CELLS[type_], max_size=5))
        ),
        min_size=1, max_size=4,
    )
)  # fmt: skip


@given(PARTS, st.lists(st.sampled_from(["blank", "refused"]), min_size=4, max_size=4), st.sampled_from([0, 1, 9]))
def test_a_column_on_disk_is_that_in_memory(
    tmp_path_factory: pytest.TempPathFactory, parts: list[tuple[Any, list[Any]]], reasons: list[str], most: int
) -> None:
    tables = [
        Table({"x": Column.of_cells(type_, cells, reason)})
        for (type_, cells), reason in zip(parts, reasons, strict=False)
    ]
    store = TableStore(tmp_path_factory.mktemp("store"))
    with mock.patch.object(scratch, "MOST_DISTINCT", most):
        for table in tables:
            store.append(table)
    try:
        expected = concatenate_tables(tables)
    except PartsDifferError:
        return
    column = store.finish()["x"]
    assert column.fit_type(expected["x"].type).same_as(expected["x"])
    assert column.to_arrow().equals(
        Column(column.type, column.stored, column.why, column.reasons, column.pool).to_arrow()
    )
    rows = np.arange(len(column))[::-1]
    assert column.take(rows).cells() == expected["x"].take(rows).cells()


@given(PARTS, st.sampled_from(["blank", "refused"]), st.integers(0, 3), st.integers(0, 3))
def test_what_is_sent_is_received(
    tmp_path_factory: pytest.TempPathFactory, parts: list[tuple[Any, list[Any]]], reason: str, first: int, times: int
) -> None:
    table = Table(
        {str(number): Column.of_cells(type_, cells, reason) for number, (type_, cells) in enumerate(parts[:1])}
    )
    long = table.take(np.tile(np.arange(len(table)), 400 * times))
    sent = [table, long.slice(first, len(long) - 1), long, Words("{n:row}", n=2), Shown([(3, "a")], 2, most=1)]
    if len(table):
        sent.append(Table({"c": table["0"].slice(0, 1).broadcast(5000)}) if table["0"].type != "string" else long)
    folder = tmp_path_factory.mktemp("sent")
    back = receive(send(sent, folder / "1"))
    again = receive(send(back, folder / "2"))
    assert not (folder / "2").exists()  # only where the cells are was sent
    for tables in (back, again):
        for value, original in zip(tables, sent, strict=True):
            assert value == original if isinstance(original, str) else value.same_as(original)


PLAN = """
memory = "0.2MB"
workers = 2

[[steps]]
name = "worn"
do = "subset"
from = "days/*.csv"
where = "pulse > 50"

[[steps]]
name = "persons"
do = "aggregate"
from = "worn"
by = "crew"
stat = "temp: mean"
out = "persons.csv"
"""


def test_plans_and_study_files_set_the_memory(study: Path) -> None:
    lomrix("subset", "days/", "--where", "pulse > 50", "--out", "worn.parquet", cwd=study)
    lomrix("aggregate", "worn.parquet", "--by", "crew", "--stat", "temp: mean", "--out", "as_typed.csv", cwd=study)
    (study / "plan.toml").write_text(PLAN)
    for words in (["plan.toml", "--full"], ["plan.toml", "--fresh", "--memory", "1GB", "--overwrite"]):
        output, _ = lomrix("run", *words, cwd=study)
        assert (study / "persons.csv").read_bytes() == (study / "as_typed.csv").read_bytes()
    assert "1 of 1" not in output
    words = ["subset", "device.csv", "--columns", "crew", "--workers", "2", "--cluster", "tcp://a:1"]
    assert "--workers and --cluster exclude each other" in lomrix(*words, cwd=study, status=2)[1]
    (study / "bad.toml").write_text(PLAN.replace("0.2MB", "much"))
    assert '"much" is not a size' in lomrix("run", "bad.toml", cwd=study, status=2)[1]
    (study / "study.toml").write_text('memory = "0.2MB"\n')
    try:
        assert "processed in" in lomrix("subset", "device.csv", "--columns", "crew,pulse", cwd=study)[0]
        assert "processed in" not in lomrix("subset", "device.csv", "--columns", "crew", "--no-study", cwd=study)[0]
        (study / "study.toml").write_text('memory = "0.2MB"\nworkers = 2\n')
        assert "by 2 workers" in lomrix("subset", "device.csv", "--columns", "crew,pulse", cwd=study)[0]
    finally:
        (study / "study.toml").unlink()
