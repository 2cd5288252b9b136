"""The demo study: crews of the Kittiwake Line at months 0, 3, 6 and 12, all invented."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from lomrix.core.arrays.types import Array

Columns = dict[str, Array]

SEED = 20_240_108
MONTHS = (0, 3, 6, 12)
START = np.datetime64("2024-01-08")
FIRST = [
    "Al",
    "Bren",
    "Cor",
    "Dav",
    "El",
    "Fen",
    "Gor",
    "Hal",
    "Is",
    "Jor",
    "Kel",
    "Lor",
    "Mar",
    "Nes",
    "Or",
    "Per",
    "Ros",
    "Sel",
    "Tor",
    "Ul",
    "Vin",
    "Wen",
    "Yor",
    "Zan",
]
SECOND = [
    "a",
    "bert",
    "da",
    "el",
    "en",
    "ia",
    "ick",
    "in",
    "is",
    "la",
    "mond",
    "na",
    "or",
    "ra",
    "rin",
    "sa",
    "ta",
    "to",
    "us",
    "wyn",
]
FAMILY = [
    "Ash",
    "Birch",
    "Brack",
    "Carr",
    "Dun",
    "Fell",
    "Gar",
    "Hol",
    "Kerr",
    "Lang",
    "Marsh",
    "North",
    "Oak",
    "Pell",
    "Quay",
    "Reed",
    "Sand",
    "Thorn",
    "Wick",
    "Yar",
]
ENDING = [
    "ay",
    "bourne",
    "by",
    "combe",
    "croft",
    "dale",
    "den",
    "field",
    "ford",
    "ham",
    "holm",
    "ley",
    "low",
    "man",
    "more",
    "ness",
    "over",
    "ridge",
    "stow",
    "worth",
]
VESSELS = {
    # name: route type, berths, cabin noise in dB, home port
    "fulmar": ("night crossing", 412, 61.5, "Gullhaven"),
    "gannet": ("day crossing", 180, 55.0, "Gullhaven"),
    "guillemot": ("island hop", 64, 66.5, "Auk Bay"),
    "puffin": ("island hop", 48, 68.0, "Auk Bay"),
    "razorbill": ("night crossing", 388, 58.5, "Ternwick"),
    "shearwater": ("fast craft", 24, 71.0, "Ternwick"),
    "tern": ("day crossing", 150, 57.5, "Skerry Point"),
    "dunlin": ("laid up", 90, 52.0, "Skerry Point"),
}
CREWED = ("fulmar", "gannet", "guillemot", "puffin", "razorbill", "shearwater", "tern", "petrel")
SHARE = (0.24, 0.12, 0.09, 0.07, 0.25, 0.08, 0.13, 0.02)
PORTS = {"AUK": "Auk Bay", "GUL": "Gullhaven", "SKE": "Skerry Point", "TER": "Ternwick", "DUN": "Dunlin Quay"}
SERIES = {
    "PAX": ("Passengers, thousands", 420.0, 0.12),
    "CARS": ("Cars, thousands", 96.0, 0.15),
    "STORM": ("Days closed for storm", 14.0, 0.35),
    "DELAY": ("Sailings late by an hour or more", 130.0, 0.25),
}
YEARS = range(2009, 2025)
DUTIES = ("bridge", "deck", "engine", "galley")
MOST_POSTINGS = 3


@dataclass
class Study:
    """The files of the study as columns of text, before flaws are planted."""

    files: dict[str, Columns]


def to_text(values: Array) -> Array:
    """Convert values to an array of strings."""
    return np.array(values).astype(str).astype(object)


def make_study(case_count: int) -> Study:
    """Make the study with a number of crew members."""
    random = np.random.default_rng(SEED)
    width = max(4, len(str(2 * case_count)))
    numbers = np.sort(random.choice(2 * case_count, size=case_count + max(4, case_count // 40), replace=False)) + 1
    ids = np.char.zfill(numbers.astype(str), width).astype(object)
    on_roster = np.sort(random.permutation(len(ids))[:case_count])
    vessel = random.choice(np.array(CREWED, dtype=object), size=len(ids), p=SHARE)
    sex = random.choice([1, 2, 3], size=len(ids), p=[0.37, 0.61, 0.02])
    born = START - random.integers(19 * 365, 62 * 365, len(ids)).astype("timedelta64[D]")
    person = {"id": ids, "vessel": vessel, "sex": sex, "born": born}
    files = {
        "roster": make_roster(random, person, on_roster),
        "vessels": make_vessels(),
        "sleep_wide": make_sleep(random, person),
        "fatigue_m0": make_fatigue(random, person, on_roster, 0),
        "fatigue_m6": make_fatigue(random, person, on_roster, 6),
        "bloods": make_bloods(random, person, on_roster),
        "port_series": make_port_series(random),
    }
    # A generator of their own, so that the files above stay as they were.
    further = np.random.default_rng(SEED + 1)
    files |= {
        "postings": make_postings(further, person, on_roster),
        "interviews": make_interviews(further, person, on_roster),
        "training": make_training(further, person, on_roster),
    }
    return Study(files)


def make_roster(random: np.random.Generator, person: Mapping[str, Array], rows: Array) -> Columns:
    """One row per crew member."""
    count = len(rows)
    parts = [random.choice(np.array(words, dtype=object), size=count) for words in (FIRST, SECOND, FAMILY, ENDING)]
    joined = START - random.integers(30, 28 * 365, count).astype("timedelta64[D]")
    grown_up = person["born"][rows] + np.timedelta64(18 * 365 + 5, "D")
    return {
        "crew_id": person["id"][rows],
        "name": parts[0] + parts[1] + " " + parts[2] + parts[3],
        "birth_date": to_text(person["born"][rows]),
        "sex": to_text(person["sex"][rows]),
        "vessel": person["vessel"][rows],
        "joined_on": to_text(np.maximum(joined, grown_up)),
    }


def make_vessels() -> Columns:
    """One row per vessel."""
    columns = zip(*VESSELS.values(), strict=True)
    words = ("route_type", "berths", "noise_db", "home_port")
    columns_ = {word: to_text(np.array(column, dtype=object)) for word, column in zip(words, columns, strict=True)}
    return {"vessel_code": np.array(list(VESSELS), dtype=object), **columns_}


def make_sleep(random: np.random.Generator, person: Mapping[str, Array]) -> Columns:
    """One row per wearer of a wrist device, in wide form; a few are not on the roster."""
    everyone = np.arange(len(person["id"]))
    rows = everyone[random.random(len(everyone)) < 0.95]
    count = len(rows)
    noise = {name: VESSELS[name][2] if name in VESSELS else 60.0 for name in CREWED}
    loud = np.array([noise[name] for name in CREWED])
    vessel_at = {name: index for index, name in enumerate(CREWED)}
    vessel_noise = loud[np.array([vessel_at[name] for name in CREWED])]
    codes = np.searchsorted(np.sort(np.array(CREWED)), person["vessel"][rows].astype(str))
    quiet = 60.0 - vessel_noise[np.argsort(np.array(CREWED))][codes]
    usual = random.normal(428, 38, count) + 2.4 * quiet
    pulse = random.normal(63, 7, count)
    walk = random.normal(8200, 1900, count)
    measures: dict[str, Columns] = {"sleep": {}, "heart_rate": {}, "steps": {}}
    stays = np.ones(count, np.bool_)
    for month in MONTHS:
        stays &= random.random(count) > (0.0 if month == 0 else 0.06)
        is_present = stays & (random.random(count) > 0.03)
        values = {
            "sleep": usual + random.normal(0, 24, count) - (8 if month == 6 else 0),
            "heart_rate": pulse + random.normal(0, 3, count),
            "steps": np.maximum(walk + random.normal(0, 900, count), 900),
        }
        failed = random.random(count) < 0.02
        for name, value in values.items():
            cells = to_text(np.rint(value).astype(np.int64))
            cells[random.random(count) < 0.012] = "-9"
            cells[failed] = "-8"
            cells[~is_present] = ""
            measures[name][f"{name}_m{month}"] = cells
    return {"crew_id": person["id"][rows], **measures["sleep"], **measures["heart_rate"], **measures["steps"]}


def make_fatigue(random: np.random.Generator, person: Mapping[str, Array], on_roster: Array, month: int) -> Columns:
    """One wave of the questionnaire; items 2 and 5 are reverse-scored."""
    rows = on_roster[random.random(len(on_roster)) < (0.93 if month == 0 else 0.84)]
    count = len(rows)
    tired = random.normal(1.2, 0.6, count)
    day = START + np.timedelta64(round(month * 30.4), "D") + random.integers(0, 21, count).astype("timedelta64[D]")
    columns: Columns = {"crew_id": person["id"][rows], "visit_date": to_text(day)}
    if month == 0:
        columns["sex"] = to_text(person["sex"][rows])
        columns["age"] = to_text(((day - person["born"][rows]).astype(np.int64) / 365.25).astype(np.int64))
    columns["watch"] = random.choice(np.array(["day", "night", "split"], dtype=object), size=count, p=[0.45, 0.35, 0.2])
    for item in range(1, 7):
        if month == 6 and item == 4:
            continue  # not asked in this wave
        score = np.clip(np.rint(tired + random.normal(0, 0.6, count)), 0, 3).astype(np.int64)
        cells = to_text(3 - score if item in (2, 5) else score)
        cells[random.random(count) < 0.015] = ""
        columns[f"f{item}"] = cells
    if month == 0:
        columns["seasick"] = to_text(random.integers(0, 2, count))
    else:
        columns["coffee_cups"] = to_text(random.poisson(2.6, count))
    return columns


def make_bloods(random: np.random.Generator, person: Mapping[str, Array], on_roster: Array) -> Columns:
    """Ferritin draws near the visits of months 0 and 6."""
    rows, days = [], []
    for month in (0, 6):
        drawn = on_roster[random.random(len(on_roster)) < 0.45]
        near = START + np.timedelta64(round(month * 30.4), "D")
        rows.append(drawn)
        days.append(near + random.integers(-12, 34, len(drawn)).astype("timedelta64[D]"))
    who, day = np.concatenate(rows), np.concatenate(days)
    order = np.lexsort((who, day))
    level = np.round(np.exp(random.normal(4.1, 0.7, len(who))), 1)
    return {"crew_id": person["id"][who][order], "drawn_on": to_text(day[order]), "ferritin": to_text(level[order])}


def make_port_series(random: np.random.Generator) -> Columns:
    """Ports and series in rows, years in columns."""
    rows = [(port, name, series, *message) for port, name in PORTS.items() for series, message in SERIES.items()]
    columns: Columns = {
        "port": np.array([row[0] for row in rows], dtype=object),
        "port_name": np.array([row[1] for row in rows], dtype=object),
        "series": np.array([row[2] for row in rows], dtype=object),
        "series_name": np.array([row[3] for row in rows], dtype=object),
    }
    level = np.array([row[4] for row in rows]) * random.uniform(0.5, 1.6, len(rows))
    spread = np.array([row[5] for row in rows])
    for year in YEARS:
        value = level * np.exp(spread * random.normal(0, 0.6, len(rows))) * (0.45 if year == 2020 else 1)
        cells = to_text(np.round(value, 1))
        whole = np.isin(columns["series"], ["STORM", "DELAY"])
        cells[whole] = to_text(np.rint(value[whole]).astype(np.int64))
        recorded = (columns["port"] != "DUN") | (year >= 2014)
        cells[~recorded | (random.random(len(rows)) < 0.02)] = "n/r"
        columns[f"Y{year}"] = cells
    return columns


def make_postings(random: np.random.Generator, person: Mapping[str, Array], on_roster: Array) -> Columns:
    """Where crew members were posted from when to when, one to three spells each; the last one is mostly open."""
    count = len(on_roster)
    number = random.integers(1, MOST_POSTINGS + 1, count)
    duty = random.choice(np.array(DUTIES, dtype=object), size=count)
    start = START - random.integers(20, 300, count).astype("timedelta64[D]")
    parts: list[Columns] = []
    for index in range(MOST_POSTINGS):
        rows = np.flatnonzero(number > index)
        end = start + random.integers(70, 260, count).astype("timedelta64[D]")
        is_open = (number == index + 1) & (random.random(count) < 0.8)
        vessel = (
            random.choice(np.array(CREWED[:-1], dtype=object), size=count) if index else person["vessel"][on_roster]
        )
        until = to_text(end)
        until[is_open] = ""
        parts.append({"row": rows, "from": to_text(start)[rows], "until": until[rows], "posted_to": vessel[rows],
                      "duty": duty[rows]})  # fmt: skip
        gap = np.where(random.random(count) < 0.15, random.integers(6, 40, count), 1)
        start = end + gap.astype("timedelta64[D]")
    columns = {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}
    order = np.argsort(columns["row"], kind="stable")
    crew = person["id"][on_roster][columns.pop("row")[order]]
    return {"crew_id": crew, **{name: cells[order] for name, cells in columns.items()}}


def make_interviews(random: np.random.Generator, person: Mapping[str, Array], on_roster: Array) -> Columns:
    """Interviews at months 0 and 6; some had to be repeated some days later."""
    parts: list[Columns] = []
    for month, share in ((0, 0.9), (6, 0.8)):
        rows = np.flatnonzero(random.random(len(on_roster)) < share)
        day = (
            START
            + np.timedelta64(round(month * 30.4), "D")
            + random.integers(0, 25, len(rows)).astype("timedelta64[D]")
        )
        again = np.flatnonzero(random.random(len(rows)) < 0.06)
        rows, repeated = np.concatenate([rows, rows[again]]), np.repeat([0, 1], [len(rows), len(again)])
        later = day[again] + random.integers(1, 15, len(again)).astype("timedelta64[D]")
        well = np.clip(np.rint(random.normal(6.4, 1.8, len(rows))), 0, 10).astype(np.int64)
        parts.append({"row": rows, "month": np.full(len(rows), month), "again": repeated,
                      "int_date": to_text(np.concatenate([day, later])),
                      "interviewer": random.choice(np.array(["i1", "i2", "i3"], dtype=object), size=len(rows)),
                      "wellbeing": to_text(well)})  # fmt: skip
    columns = {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}
    order = np.lexsort((columns["again"], columns["row"], columns["month"]))
    crew = person["id"][on_roster][columns.pop("row")[order]]
    del columns["again"]
    columns["month"] = to_text(columns["month"])
    return {"crew_id": crew, **{name: cells[order] for name, cells in columns.items()}}


def make_training(random: np.random.Generator, person: Mapping[str, Array], on_roster: Array) -> Columns:
    """A course on sleep beside the usual briefing, drawn by lot: alertness (0 to 100) before and after."""
    rows = on_roster[random.random(len(on_roster)) < 0.35]
    count = len(rows)
    arm = random.choice(np.array(["course", "usual"], dtype=object), size=count)
    age = ((START - person["born"][rows]).astype(np.int64) / 365.25).astype(np.int64)
    before = np.clip(random.normal(56, 12, count) - 0.15 * (age - 40), 5, 98)
    after = np.clip(22 + 0.62 * before + 4.5 * (arm == "course") + random.normal(0, 7, count), 0, 100)
    cells = to_text(np.rint(after).astype(np.int64))
    cells[random.random(count) < 0.07] = "-9"
    return {
        "crew_id": person["id"][rows], "arm": arm, "age": to_text(age),
        "alert_pre": to_text(np.rint(before).astype(np.int64)), "alert_post": cells,
    }  # fmt: skip
