"""The flaws planted in the demo study, of the kinds that real files have."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.table.notes import FIRST_ROW
from lomrix.demo.study import Columns, Study


@dataclass(frozen=True)
class Flaw:
    """One planted flaw: what it is, where it is (the header is row 1), and the right value."""

    kind: str
    file: str
    row: int
    column: str
    value: str
    story: str
    key: str
    action: str
    right: str


class Planting:
    """A study in which flaws are planted, and their list."""

    def __init__(self, study: Study) -> None:
        self.study = study
        self.flaws: list[Flaw] = []

    def put(
        self, kind: str, file: str, row: int, column: str, value: str, story: str, action: str = "set", right: str = ""
    ) -> None:
        """Plant a flaw; by default the right value is the one before."""
        cells = self.study.files[file]
        before = cells[column][row]
        cells[column][row] = value
        # The laboratory's workbook has two title lines above its header.
        sheet_row, name = (row + FIRST_ROW, f"{file}.csv") if file != "bloods" else (row + FIRST_ROW + 2, "bloods.xlsx")
        right = right or before if action == "set" else right
        self.flaws.append(Flaw(kind, name, sheet_row, column, value, story, cells["crew_id"][row], action, right))


def plant_flaws(study: Study) -> list[Flaw]:
    """Plant the flaws in a study and list them."""
    planting = Planting(study)
    plant_in_roster(planting, study.files["roster"])
    plant_in_sleep(planting, study.files["sleep_wide"])
    plant_in_waves(planting, study.files["fatigue_m0"], study.files["fatigue_m6"])
    plant_in_spells_and_interviews(planting, study.files["postings"], study.files["interviews"])
    score = len(study.files["training"]["alert_post"]) // 2
    planting.put("text in a number", "training", score, "alert_post", "off sick", "not tested", "missing", "off sick")
    middle = len(study.files["bloods"]["ferritin"]) // 2
    story = "the laboratory's word for a level it cannot measure"
    planting.put("text in a number", "bloods", middle, "ferritin", "under range", story, "missing", "under range")
    return planting.flaws


def plant_in_roster(planting: Planting, roster: Columns) -> None:
    """Plant the flaws of the roster."""
    rows = len(roster["crew_id"])
    for column in roster.values():
        column[rows - 3] = column[rows // 5]
    story = (
        f"crew member {roster['crew_id'][rows - 3]} is listed twice: "
        "the entry before a change of vessel was not removed"
    )
    planting.put("repeated id", "roster", rows - 3, "vessel", "gannet", story, "leave-out")
    story = f"{roster['name'][rows // 3]} was entered before the id was given out"
    planting.put("missing id", "roster", rows // 3, "crew_id", "", story)
    story = "born ten years before joining the study"
    planting.put("date years off", "roster", rows // 2, "birth_date", "2014-06-02", story)
    row = find_row(roster["vessel"], "razorbill")
    planting.put("spelling", "roster", row, "vessel", "razorbil", "the vessel is razorbill", "set", "razorbill")


def plant_in_sleep(planting: Planting, sleep: Columns) -> None:
    """Plant the flaws of the wrist-device file."""
    rows = len(sleep["crew_id"])
    zeros = [row for row, crew_id in enumerate(sleep["crew_id"]) if crew_id.startswith("0")]
    for row in zeros[len(zeros) // 9 :: max(1, len(zeros) // 5)][:5]:
        whole = sleep["crew_id"][row]
        story = f"a spreadsheet turned {whole} into a number"
        planting.put("lost zeros", "sleep_wide", row, "crew_id", whole.lstrip("0"), story)
    row = rows * 2 // 3
    planting.put(
        "trailing space", "sleep_wide", row, "crew_id", sleep["crew_id"][row] + " ", "typed with a space at the end"
    )
    story = "an estimate, marked in the cell"
    planting.put("text in a number", "sleep_wide", rows // 4, "sleep_m3", "410 est.", story, "note", "410")
    story = "hours in words, not minutes"
    planting.put("text in a number", "sleep_wide", rows // 2, "sleep_m3", "seven h", story, "set", "420")
    story = "all others are whole numbers"
    planting.put("mixed decimals", "sleep_wide", rows // 6, "heart_rate_m6", "61.5", story, "set", "62")
    story = "a day has 1,440 minutes"
    planting.put("out of range", "sleep_wide", rows // 7, "sleep_m12", "1710", story, "missing", "implausible")


def plant_in_waves(planting: Planting, first: Columns, second: Columns) -> None:
    """Plant the flaws of the questionnaire waves."""
    story = "no crew member is younger than 16"
    planting.put("out of range", "fatigue_m0", len(first["age"]) // 3, "age", "7", story)
    story = "2024 with its digits turned"
    planting.put("date years off", "fatigue_m6", len(second["visit_date"]) // 2, "visit_date", "2042-07-15", story)
    story = "items are scored 0 to 3"
    planting.put("not a code", "fatigue_m0", len(first["f3"]) // 2, "f3", "5", story, "missing", "not a code")
    for row in np.linspace(len(first["sex"]) // 8, len(first["sex"]) - 4, 3).astype(int):
        other = "2" if first["sex"][row] != "2" else "1"
        planting.put("disagreement", "fatigue_m0", int(row), "sex", other, "the roster says otherwise")


def plant_in_spells_and_interviews(planting: Planting, postings: Columns, interviews: Columns) -> None:
    """Plant the flaws of the postings, and of interviews that were repeated."""
    follows = np.flatnonzero(postings["crew_id"][1:] == postings["crew_id"][:-1]) + 1
    ends = postings["until"][follows - 1].astype("M8[D]")
    next_day = follows[postings["from"][follows].astype("M8[D]") - ends == np.timedelta64(1, "D")]
    row = int(next_day[len(next_day) // 3])
    story = "begins before the posting before it has ended"
    early = np.datetime64(postings["from"][row]) - np.timedelta64(31, "D")
    planting.put("overlap", "postings", row, "from", str(early), story)
    closed = np.flatnonzero(postings["until"] != "")
    row = int(closed[len(closed) // 2])
    story = "the year was not changed in January"
    planting.put("ends first", "postings", row, "until", f"2022{postings['until'][row][4:]}", story)
    same = (interviews["crew_id"][1:] == interviews["crew_id"][:-1]) & (
        interviews["month"][1:] == interviews["month"][:-1]
    )
    again = np.flatnonzero(same) + 1
    row = int(again[len(again) // 4])
    story = "the second interview got the date of the first"
    planting.put("equal dates", "interviews", row, "int_date", interviews["int_date"][row - 1], story)
    story = "the date stood on the paper form only"
    planting.put("missing date", "interviews", int(again[len(again) // 2]), "int_date", "", story)


def find_row(column: Array, value: str) -> int:
    """Find the first row with a value, starting a quarter of the way down."""
    rows = np.flatnonzero(column == value)
    return int(rows[len(rows) // 4]) if len(rows) else 0
