"""The flaws planted in the demo study: those that real files have. Each is listed with its place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lomrix.core.table.notes import FIRST_ROW
from lomrix.demo.study import Array, Columns, Study


@dataclass(frozen=True)
class Flaw:
    """One planted flaw: what it is, and where (row as a sheet counts it, the header being row 1)."""

    kind: str
    file: str
    row: int
    column: str
    value: str
    story: str


def planted(study: Study) -> list[Flaw]:
    """Plant the flaws in a study and list them."""
    flaws: list[Flaw] = []

    def put(kind: str, file: str, row: int, column: str, value: str, story: str) -> None:
        study.files[file][column][row] = value
        flaws.append(Flaw(kind, f"{file}.csv", row + FIRST_ROW, column, value, story))

    roster, sleep = study.files["roster"], study.files["sleep_wide"]
    rows = len(roster["crew_id"])
    _repeat_row(roster, rows // 5, rows - 3)
    put(
        "repeated id",
        "roster",
        rows - 3,
        "vessel",
        "gannet",
        f"crew member {roster['crew_id'][rows - 3]} stands twice: the entry before a change of vessel was not removed",
    )
    row = rows // 3
    put("missing id", "roster", row, "crew_id", "", f"{roster['name'][row]} was entered before the id was given out")
    put("date years off", "roster", rows // 2, "birth_date", "2014-06-02", "born ten years before joining the study")
    put("spelling", "roster", first_of(roster["vessel"], "razorbill"), "vessel", "razorbil", "the vessel is razorbill")

    zeros = [at for at, one in enumerate(sleep["crew_id"]) if one.startswith("0")]
    for at in zeros[len(zeros) // 9 :: max(1, len(zeros) // 5)][:5]:
        whole = sleep["crew_id"][at]
        put("lost zeros", "sleep_wide", at, "crew_id", whole.lstrip("0"), f"a spreadsheet turned {whole} into a number")
    at = len(sleep["crew_id"]) * 2 // 3
    put("trailing blank", "sleep_wide", at, "crew_id", sleep["crew_id"][at] + " ", "typed with a blank at the end")
    put(
        "text in a number",
        "sleep_wide",
        len(sleep["crew_id"]) // 4,
        "sleep_m3",
        "410 est.",
        "an estimate, said in the cell",
    )
    put(
        "text in a number",
        "sleep_wide",
        len(sleep["crew_id"]) // 2,
        "sleep_m3",
        "seven h",
        "hours in words, not minutes",
    )
    put(
        "mixed decimals",
        "sleep_wide",
        len(sleep["crew_id"]) // 6,
        "heart_rate_m6",
        "61.5",
        "all others are whole numbers",
    )
    put("out of range", "sleep_wide", len(sleep["crew_id"]) // 7, "sleep_m12", "1710", "a day has 1,440 minutes")

    first, second = study.files["fatigue_m0"], study.files["fatigue_m6"]
    put("out of range", "fatigue_m0", len(first["age"]) // 3, "age", "7", "no crew member is younger than 16")
    put(
        "date years off",
        "fatigue_m6",
        len(second["visit_date"]) // 2,
        "visit_date",
        "2042-07-15",
        "2024 with its digits turned",
    )
    put("not a code", "fatigue_m0", len(first["f3"]) // 2, "f3", "5", "items are scored 0 to 3")
    for at in np.linspace(len(first["sex"]) // 8, len(first["sex"]) - 4, 3).astype(int):
        other = "2" if first["sex"][at] != "2" else "1"
        put("disagreement", "fatigue_m0", int(at), "sex", other, "the roster says otherwise")
    bloods = study.files["bloods"]
    bloods["ferritin"][len(bloods["ferritin"]) // 2] = "under range"
    flaws.append(
        Flaw(
            "text in a number",
            "bloods.xlsx",
            len(bloods["ferritin"]) // 2 + 4,
            "ferritin",
            "under range",
            "the laboratory's word for a level it cannot measure",
        )
    )
    return flaws


def _repeat_row(columns: Columns, row: int, over: int) -> None:
    for column in columns.values():
        column[over] = column[row]


def first_of(column: Array, value: str) -> int:
    """The first row with a value, from a quarter of the way down."""
    rows = np.flatnonzero(column == value)
    return int(rows[len(rows) // 4]) if len(rows) else 0
