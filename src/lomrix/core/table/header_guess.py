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
# Words for the first occasion, beside others that have a number.
FIRST_WORDS = ("baseline", "base", "bl", "screening", "entry", "pre", "start")
LETTERS = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
FOLLOW_UP = re.compile(r"[A-Za-z]+\d{1,3}")
SIDES = (("L", "R"), ("_L", "_R"), ("l", "r"), ("left", "right"), ("_left", "_right"))
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
    occasions
        What words among the occasions stand for.
    """

    templates: tuple[str, ...]
    measures: dict[str, list[str]]
    value_names: tuple[str, ...] = field(default=())
    occasions: tuple[str, ...] = field(default=())

    def settings(self, case: tuple[str, ...]) -> dict[str, object]:
        """The settings of the step that takes the guess."""
        return {"case": case, "header": self.templates, "value_name": self.value_names, "occasions": self.occasions}


def guessed_families(names: list[str]) -> Guess | None:
    """The templates under which most columns stand together as repeated measures; None where there are none.

    Parameters
    ----------
    names
        Column names in file order.
    """
    best = _numbered(names)
    if (first := _from_baseline(names)) is not None and (best is None or _shared(first, best)):
        return first
    if (sided := _sided(best)) is not None:
        return sided
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


def _columns(guess: Guess) -> set[str]:
    return {name for found in guess.measures.values() for name in found}


def _shared(one: Guess, two: Guess) -> bool:
    """True where one guess explains as many columns as another, or some that the other would tear apart."""
    return len(_columns(one)) >= len(_columns(two)) or bool(_columns(one) & _columns(two))


def _from_baseline(names: list[str]) -> Guess | None:
    """Measures that begin with a word for the first occasion and go on with numbers: bp_baseline, bp_fu1, bp_fu2."""
    best: Guess | None = None
    for joint in JOINTS[:-1]:
        ends: dict[str, list[str]] = {}
        for name in names:
            measure, between, word = name.rpartition(joint)
            if between and measure and (word.lower() in FIRST_WORDS or FOLLOW_UP.fullmatch(word)):
                ends.setdefault(measure, []).append(word)
        own = {}
        for measure, words in ends.items():
            first = [word for word in words if word.lower() in FIRST_WORDS]
            stems = {word.rstrip("0123456789") for word in words if word not in first}
            if len(first) == 1 and len(stems) == 1:
                own[measure] = words
        if not own:
            continue
        measures = {measure: [measure + joint + word for word in words] for measure, words in own.items()}
        told = dict.fromkeys(word for words in own.values() for word in words)
        said = [f"{word}={0 if word.lower() in FIRST_WORDS else int(word.lstrip(LETTERS))}" for word in told]
        guess = Guess(("{measure}" + joint + "{visit}",), measures, (), (",".join(said),))
        best = guess if best is None or len(_columns(guess)) > len(_columns(best)) else best
    return best


def _sided(best: Guess | None) -> Guess | None:
    """Measures of which each stands for a left and a right side: hearL1, hearR1, hearL2, hearR2."""
    if best is None:
        return None
    head, brace, tail = best.templates[0].partition("{measure}")
    for left, right in SIDES:
        stems = {name.removesuffix(left) for name in best.measures if name.endswith(left) and name != left}
        both = [stem for stem in stems if stem + right in best.measures]
        if brace and both and len(both) * 2 == len(best.measures):
            measures = {stem: [*best.measures[stem + left], *best.measures[stem + right]] for stem in sorted(both)}
            return Guess((head + "{measure}{side}" + tail,), measures, (), (f"side:{left},{right}",))
    return None


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
