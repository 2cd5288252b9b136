"""Guess which columns are one measure at several occasions."""

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
# The measure's name if the headers are nothing but years.
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
    """Header templates that columns seem to follow (several share one occasion), and the columns of each measure.

    `value_names` gives the measure's name if the headers hold none; `occasions` maps words among the occasions to
    values.
    """

    templates: tuple[str, ...]
    measures: dict[str, list[str]]
    value_names: tuple[str, ...] = field(default=())
    occasions: tuple[str, ...] = field(default=())

    def settings(self, case: tuple[str, ...]) -> dict[str, object]:
        """Return the settings of the step that would use the guess."""
        return {"case": case, "header": self.templates, "value_name": self.value_names, "occasions": self.occasions}


def guess_families(names: list[str]) -> Guess | None:
    """Return the templates under which most columns are repeated measures; None if there are none."""
    best = _guess_numbered(names)
    if (first := _guess_baseline(names)) is not None and (best is None or _explains_more(first, best)):
        return first
    if (sided := _guess_sides(best)) is not None:
        return sided
    if best is None:
        return _guess_years(names) or _guess_words(names)
    occasion = best.templates[0].rpartition("{")[2]
    templates, measures = list(best.templates), dict(best.measures)
    while True:  # the same occasions may be written in two ways: sleep_m3 and mood.m3
        used = {name for columns in measures.values() for name in columns}
        more = _guess_numbered([name for name in names if name not in used])
        if more is None or more.templates[0].rpartition("{")[2] != occasion or set(more.measures) & set(measures):
            return Guess(tuple(templates), measures)
        templates += more.templates
        measures |= more.measures


def _guess_numbered(names: list[str]) -> Guess | None:
    """Guess measures whose columns end in a number."""
    best: Guess | None = None
    endings = {name: _find_endings(name) for name in names}
    for joint, word in dict.fromkeys(ending for found in endings.values() for ending in found):
        measures: dict[str, list[str]] = {}
        stem = ".+" if joint else r".*[^\W\d_]"
        end_of = re.compile(rf"(?P<measure>{stem}){re.escape(joint + word)}\d{{1,{MOST_DIGITS}}}")
        for name in names:
            # The word before an occasion is not part of the measure's name.
            if (joint or len(endings[name]) == 1) and (end := end_of.fullmatch(name)):
                measures.setdefault(end["measure"], []).append(name)
        measures = {measure: columns for measure, columns in measures.items() if len(columns) > 1}
        # Items of a questionnaire (f1, f2 …) are numbered too: without joint and word one family proves nothing.
        if not measures or (not joint and not word and len(measures) < 2):
            continue
        if best is None or sum(map(len, measures.values())) > sum(map(len, best.measures.values())):
            occasion = WORDS.get(word.lower(), word or "occasion")
            best = Guess(("{measure}" + joint + word + "{" + occasion + "}",), measures)
    return best


def _find_endings(name: str) -> list[tuple[str, str]]:
    """Return the ways in which a name may end before its number: joint, and word for the occasion."""
    stem = name.rstrip("0123456789")
    if not 0 < len(name) - len(stem) <= MOST_DIGITS:
        return []
    endings = []
    for joint in JOINTS:
        head, between, word = stem.rpartition(joint) if joint else (stem, "", "")
        if (between or not joint) and (head if joint else head[-1:].isalpha()) and word.lower() in WORDS:
            endings.append((joint, word))
    return endings


def _columns_of(guess: Guess) -> set[str]:
    return {name for columns in guess.measures.values() for name in columns}


def _explains_more(first: Guess, second: Guess) -> bool:
    """Return whether the first guess explains as many columns, or some that the second would tear apart."""
    return len(_columns_of(first)) >= len(_columns_of(second)) or bool(_columns_of(first) & _columns_of(second))


def _guess_baseline(names: list[str]) -> Guess | None:
    """Guess measures that begin with a word for the first occasion, then numbers: bp_baseline, bp_fu1, bp_fu2."""
    best: Guess | None = None
    for joint in JOINTS[:-1]:
        ends: dict[str, list[str]] = {}
        for name in names:
            measure, between, word = name.rpartition(joint)
            if between and measure and (word.lower() in FIRST_WORDS or FOLLOW_UP.fullmatch(word)):
                ends.setdefault(measure, []).append(word)
        series = {}
        for measure, words in ends.items():
            first = [word for word in words if word.lower() in FIRST_WORDS]
            stems = {word.rstrip("0123456789") for word in words if word not in first}
            if len(first) == 1 and len(stems) == 1:
                series[measure] = words
        if not series:
            continue
        measures = {measure: [measure + joint + word for word in words] for measure, words in series.items()}
        headers = dict.fromkeys(word for words in series.values() for word in words)
        mapping = [f"{word}={0 if word.lower() in FIRST_WORDS else int(word.lstrip(LETTERS))}" for word in headers]
        guess = Guess(("{measure}" + joint + "{visit}",), measures, (), (",".join(mapping),))
        best = guess if best is None or len(_columns_of(guess)) > len(_columns_of(best)) else best
    return best


def _guess_sides(best: Guess | None) -> Guess | None:
    """Guess measures that have a left and a right side each: hearL1, hearR1, hearL2, hearR2."""
    if best is None:
        return None
    head, brace, tail = best.templates[0].partition("{measure}")
    for left, right in SIDES:
        stems = {name.removesuffix(left) for name in best.measures if name.endswith(left) and name != left}
        both = [stem for stem in stems if stem + right in best.measures]
        if brace and both and len(both) * 2 == len(best.measures):
            measures = {stem: [*best.measures[stem + left], *best.measures[stem + right]] for stem in sorted(both)}
            template = head + "{measure}{side}" + tail.replace("{occasion}", "{wave}")
            return Guess((template,), measures, (), (f"side:{left},{right}",))
    return None


def _guess_years(names: list[str]) -> Guess | None:
    """Guess columns that are years, with the same text around each: 2009, Y2010."""
    matches = {name: year for name in names if (year := YEAR.fullmatch(name))}
    frames = Counter((year["before"], year["after"]) for year in matches.values())
    if not frames or (most := frames.most_common(1)[0])[1] < LEAST_YEARS:
        return None
    before, after = most[0]
    columns = [name for name, year in matches.items() if (year["before"], year["after"]) == (before, after)]
    return Guess((before + "{year}" + after,), {VALUE_NAME: columns}, (VALUE_NAME,))


def _guess_words(names: list[str]) -> Guess | None:
    """Guess measures that all end in the same words: sleep_before, sleep_after, mood_before, mood_after."""
    best: Guess | None = None
    for joint in JOINTS[:-1]:
        ends: dict[str, list[str]] = {}
        for name in names:
            measure, between, word = name.rpartition(joint)
            if between and measure and word.isalpha():
                ends.setdefault(measure, []).append(word)
        sets = Counter(frozenset(words) for words in ends.values() if len(words) > 1)
        words, count = max(sets.items(), key=lambda pair: pair[1] * len(pair[0]), default=(frozenset(), 0))
        if count < 2:
            continue
        series = {measure: words_found for measure, words_found in ends.items() if frozenset(words_found) == words}
        measures = {
            measure: [measure + joint + word for word in words_found] for measure, words_found in series.items()
        }
        if best is None or sum(map(len, measures.values())) > sum(map(len, best.measures.values())):
            best = Guess(("{" + MEASURE + "}" + joint + "{occasion}",), measures)
    return best
