"""Guess: families of columns that look like one measure at several occasions."""

from __future__ import annotations

import re
from dataclasses import dataclass

# Words that announce an occasion between a measure's name and a number: sleep_m3, hr.w2, mood_visit12.
WORDS = {
    "m": "month", "mo": "month", "month": "month", "w": "wave", "wave": "wave", "v": "visit", "visit": "visit",
    "t": "time", "time": "time", "y": "year", "yr": "year", "year": "year", "d": "day", "day": "day", "wk": "week",
    "week": "week", "p": "phase", "phase": "phase", "": "occasion",
}  # fmt: skip


@dataclass(frozen=True)
class Guess:
    """A header template that columns seem to follow, and the columns of each measure."""

    template: str
    measures: dict[str, list[str]]


def guessed_families(names: list[str]) -> Guess | None:
    """The template under which most columns stand together as repeated measures; None where there is none.

    Parameters
    ----------
    names
        Column names in file order.
    """
    best: Guess | None = None
    for joint, word in dict.fromkeys(found for name in names for found in _endings(name)):
        measures: dict[str, list[str]] = {}
        for name in names:
            end = re.fullmatch(rf"(?P<measure>.*[A-Za-z)]){re.escape(joint + word)}(?P<number>\d{{1,4}})", name)
            if end and (joint or word or not end["measure"][-1:].isdigit()):
                measures.setdefault(end["measure"], []).append(name)
        measures = {measure: found for measure, found in measures.items() if len(found) > 1}
        # Items of a questionnaire (f1, f2 …) have numbers too: without a joint and a word one family is no sign.
        if not measures or (not joint and not word and len(measures) < 2):
            continue
        count = sum(map(len, measures.values()))
        if best is None or count > sum(map(len, best.measures.values())):
            occasion = WORDS.get(word.lower(), word or "occasion")
            best = Guess("{measure}" + joint + word + "{" + occasion + "}", measures)
    return best


def _endings(name: str) -> list[tuple[str, str]]:
    found = re.fullmatch(r".*?[A-Za-z)](?P<joint>[_. -]?)(?P<word>[A-Za-z]*)\d{1,4}", name)
    if not found:
        return []
    endings = []
    for word in WORDS:
        for joint in ("_", ".", "-", " ", ""):
            if re.fullmatch(rf".*[A-Za-z)]{re.escape(joint)}{word}\d{{1,4}}", name, re.IGNORECASE) and (
                joint or not word
            ):
                own = re.search(rf"{re.escape(joint)}({word})\d{{1,4}}$", name, re.IGNORECASE)
                endings.append((joint, own[1] if own else word))
    return endings
