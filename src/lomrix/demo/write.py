"""Write the demo study to files."""

from __future__ import annotations

import csv
import datetime
import importlib.resources
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import BLANK
from lomrix.demo.device import FOLDER, list_device_files, write_device
from lomrix.demo.flaws import Flaw, plant_flaws
from lomrix.demo.study import Columns, make_study
from lomrix.files.text_writer import write_columns

NOTES = "flaws.md"
LEDGERS = ("roster", "sleep_wide", "fatigue_m0", "fatigue_m6", "bloods", "postings", "interviews", "training")
DICTIONARY = "dictionary.toml"
TEMPLATE = "reading.txt.j2"
PLAN = "study_plan.toml"
# The files that come again with the second delivery, in a folder of that name.
SECOND, AGAIN = "second", ("roster", "sleep_wide")
NEW_CASES, CHANGED_CELLS = 3, 5
FILES = (
    "roster", "vessels", "sleep_wide", "fatigue_m0", "fatigue_m6", "port_series", "postings", "interviews", "training"
)  # fmt: skip
# A workbook stores its creation time; ours is fixed, so that the bytes are reproducible.
CREATED = datetime.datetime(2024, 1, 8, 12, 0)


def list_demo_files(device_days: int = 0) -> list[str]:
    """List the names of the demo's files."""
    ledgers = [f"ledger_{name}.csv" for name in LEDGERS]
    again = [f"{SECOND}/{name}.csv" for name in AGAIN]
    return [*(f"{name}.csv" for name in FILES), "bloods.xlsx", DICTIONARY, TEMPLATE, PLAN, NOTES, *ledgers, *again,
            *list_device_files(device_days)]  # fmt: skip


def write_study(folder: Path, cases: int, device_days: int = 0) -> dict[str, int]:
    """Write the demo study to an existing folder and return the rows of each data file."""
    study = make_study(cases)
    flaws = plant_flaws(study)
    for name in FILES:
        columns = {column: to_column(cells) for column, cells in study.files[name].items()}
        write_columns(columns, {}, folder / f"{name}.csv", ",")
    write_bloods(folder / "bloods.xlsx", study.files["bloods"])
    (folder / SECOND).mkdir()
    for name, columns_by_file in make_second_delivery(study.files).items():
        columns = {column: to_column(cells) for column, cells in columns_by_file.items()}
        write_columns(columns, {}, folder / SECOND / f"{name}.csv", ",")
    for name in (DICTIONARY, TEMPLATE, PLAN):
        text = importlib.resources.files("lomrix.demo").joinpath(name).read_text(encoding="utf-8")
        (folder / name).write_text(text, encoding="utf-8")
    (folder / NOTES).write_text(format_flaws(flaws), encoding="utf-8")
    for name in LEDGERS:
        write_ledger(folder / f"ledger_{name}.csv", [flaw for flaw in flaws if flaw.file.startswith(name + ".")])
    rows = {name: len(next(iter(columns.values()))) for name, columns in study.files.items()}
    if device_days:
        rows[FOLDER] = write_device(folder, study.files["roster"]["crew_id"], device_days)
    return rows


def make_second_delivery(files: Mapping[str, Columns]) -> dict[str, Columns]:
    """Make two files as they come a month later: a few new crew members, and a few more values."""
    deliveries: dict[str, Columns] = {}
    for name in AGAIN:
        columns = {column: cells.copy() for column, cells in files[name].items()}
        if name == "sleep_wide":
            open_cells = np.flatnonzero(columns["sleep_m12"] == "")[:CHANGED_CELLS]
            columns["sleep_m12"][open_cells] = [str(400 + 7 * index) for index in range(len(open_cells))]
        more = {column: cells[-NEW_CASES:].copy() for column, cells in columns.items()}
        more["crew_id"] = np.array([f"{9000 + index}" for index in range(NEW_CASES)])
        if "name" in more:
            more["name"] = np.array([f"Newly Arrived {word}" for word in ("One", "Two", "Three")])
        deliveries[name] = {column: np.concatenate([cells, more[column]]) for column, cells in columns.items()}
    return deliveries


def write_ledger(path: Path, flaws: list[Flaw]) -> None:
    """Write the decisions on the flaws of one file as a ledger of corrections."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(("crew_id", "row", "variable", "old", "action", "new", "why", "by"))
        for flaw in flaws:
            writer.writerow(
                (flaw.key, flaw.row, flaw.column, flaw.value, flaw.action, flaw.right, flaw.story, "data desk")
            )


def to_column(cells: Array) -> Column:
    """Convert texts to a column; empty ones are blank cells."""
    blank = cells == ""
    reasons = blank.astype(np.uint8)
    return Column.of_strings(None, Pool(pa.array(cells, pa.large_string(), mask=blank)), reasons, (BLANK,))


def write_bloods(path: Path, columns: Columns) -> None:
    """Write the laboratory's workbook: two title lines above the header, real dates and numbers."""
    import xlsxwriter

    book = xlsxwriter.Workbook(str(path), {"constant_memory": True})
    book.set_properties({"created": CREATED, "title": "Ferritin", "author": "Laboratory of the Kittiwake Line"})
    sheet = book.add_worksheet("Ferritin")
    day = book.add_format({"num_format": "yyyy-mm-dd"})
    sheet.write_string(0, 0, "Kittiwake Line, laboratory list")
    sheet.write_string(1, 0, "Ferritin in micrograms per litre")
    for column, name in enumerate(columns):
        sheet.write_string(2, column, name)
    for row, (crew_id, drawn, level) in enumerate(zip(*columns.values(), strict=True), start=3):
        sheet.write_string(row, 0, crew_id)
        sheet.write_datetime(row, 1, datetime.datetime.fromisoformat(drawn), day)
        if level.replace(".", "", 1).isdigit():
            sheet.write_number(row, 2, float(level))
        else:
            sheet.write_string(row, 2, level)
    book.close()


def format_flaws(flaws: list[Flaw]) -> str:
    """Format the list of what was planted."""
    lines = [
        "# What is wrong in these files",
        "",
        "The study of the Kittiwake Line is made up. These flaws were planted in it, of the kinds real files have.",
        "Rows are counted as a sheet shows them: the header is row 1.",
        "",
        "| flaw | file | row | column | cell | what happened |",
        "|---|---|---|---|---|---|",
    ]
    lines += [
        f'| {flaw.kind} | {flaw.file} | {flaw.row} | {flaw.column} | "{flaw.value}" | {flaw.story} |' for flaw in flaws
    ]
    lines += [
        "",
        "Besides, as in any study: crew on the wrist-device list who are not on the roster, a vessel (petrel) that has",
        "crew but no row in vessels.csv, and one (dunlin) that is laid up and has no crew.",
        "The ledgers ledger_*.csv hold what the team decided of each flaw.",
    ]
    return "\n".join(lines) + "\n"
