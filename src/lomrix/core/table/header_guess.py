"""Guess: families of columns that look like one measure at several occasions."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field

from lomrix.core.table.header import MEASURE

# Words that announce an occasion between a measure's name and a number: sleep_m3, hr.w2, mood_visit12.
WORDS = {
    "m": "month", "mo": "month", "month": "month", "w": "wave", "wave": "wave", "v": "visit", "visit": "visit",
    "t": "time", "time": "time", "y": "year", "yr": "year", "year": "year", "d": "day", "day": "day", "wk": "week",
    "week": "week", "p": "phase", "phase": "phase", "": "occasion",
}  # fmt: skip
JOINTS = ("_", ".", "-", " ", "")
YEAR = re.compile(r"(?P<before>.*?)(?P<year>(19|20)\d\d)(?P<after>\D*)")
# What the values are called where the headers are years and nothing else.
VALUE_NAME = "value"
LEAST_YEARS = 3
MOST_DIGITS = 4


@dataclass(frozen=True)
class Guess:
    """Header templates that columns seem to follow, and the columns of each measure.

    Parameters
    ----------
    templates
        One template, or several with the same occasion.
    measures
        Columns by measure.
    value_names
        The measure's name, where the headers hold none.
    """

    templates: tuple[str, ...]
    measures: dict[str, list[str]]
    value_names: tuple[str, ...] = field(default=())


def guessed_families(names: list[str]) -> Guess | None:
    """The templates under which most columns stand together as repeated measures; None where there are none.

    Parameters
    ----------
    names
        Column names in file order.
    """
    best = _numbered(names)
    if best is None:
        return _years(names) or _worded(names)
    occasion = best.templates[0].rpartition("{")[2]
    templates, measures = list(best.templates), dict(best.measures)
    while True:  # the same occasions may be written differently: sleep_m3 and mood.m3
        used = {name for found in measures.values() for name in found}
        more = _numbered([name for name in names if name not in used])
        if more is None or more.templates[0].rpartition("{")[2] != occasion or set(more.measures) & set(measures):
            return Guess(tuple(templates), measures)
        templates += more.templates
        measures |= more.measures


def _numbered(names: list[str]) -> Guess | None:
    """Measures whose columns end in a number."""
    best: Guess | None = None
    endings = {name: _endings(name) for name in names}
    for joint, word in dict.fromkeys(found for ways in endings.values() for found in ways):
        measures: dict[str, list[str]] = {}
        stem = ".+" if joint else r".*[^\W\d_]"
        end_of = re.compile(rf"(?P<measure>{stem}){re.escape(joint + word)}\d{{1,{MOST_DIGITS}}}")
        for name in names:
            # What announces an occasion belongs to no measure's name.
            if (joint or len(endings[name]) == 1) and (end := end_of.fullmatch(name)):
                measures.setdefault(end["measure"], []).append(name)
        measures = {measure: found for measure, found in measures.items() if len(found) > 1}
        # Items of a questionnaire (f1, f2 …) have numbers too: without a joint and a word one family is no sign.
        if not measures or (not joint and not word and len(measures) < 2):
            continue
        if best is None or sum(map(len, measures.values())) > sum(map(len, best.measures.values())):
            occasion = WORDS.get(word.lower(), word or "occasion")
            best = Guess(("{measure}" + joint + word + "{" + occasion + "}",), measures)
    return best


def _endings(name: str) -> list[tuple[str, str]]:
    """Ways in which a name may end: what joins, what announces, and then a number."""
    stem = name.rstrip("0123456789")
    if not 0 < len(name) - len(stem) <= MOST_DIGITS:
        return []
    endings = []
    for joint in JOINTS:
        head, between, word = stem.rpartition(joint) if joint else (stem, "", "")
        if (between or not joint) and (head if joint else head[-1:].isalpha()) and word.lower() in WORDS:
            endings.append((joint, word))
    return endings


def _years(names: list[str]) -> Guess | None:
    """Columns that are years, with the same text around each: 2009, Y2010."""
    found = {name: year for name in names if (year := YEAR.fullmatch(name))}
    frames = Counter((year["before"], year["after"]) for year in found.values())
    if not frames or (most := frames.most_common(1)[0])[1] < LEAST_YEARS:
        return None
    before, after = most[0]
    columns = [name for name, year in found.items() if (year["before"], year["after"]) == (before, after)]
    return Guess((before + "{year}" + after,), {VALUE_NAME: columns}, (VALUE_NAME,))


def _worded(names: list[str]) -> Guess | None:
    """Measures that all end in the same words: sleep_before, sleep_after, mood_before, mood_after."""
    best: Guess | None = None
    for joint in JOINTS[:-1]:
        ends: dict[str, list[str]] = {}
        for name in names:
            measure, between, word = name.rpartition(joint)
            if between and measure and word.isalpha():
                ends.setdefault(measure, []).append(word)
        sets = Counter(frozenset(words) for words in ends.values() if len(words) > 1)
        words, count = max(sets.items(), key=lambda one: one[1] * len(one[0]), default=(frozenset(), 0))
        if count < 2:
            continue
        own = {measure: found for measure, found in ends.items() if frozenset(found) == words}
        measures = {measure: [measure + joint + word for word in found] for measure, found in own.items()}
        if best is None or sum(map(len, measures.values())) > sum(map(len, best.measures.values())):
            best = Guess(("{" + MEASURE + "}" + joint + "{occasion}",), measures)
    return best
