"""Guess which columns are one measure at several occasions."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import product

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
# How an occasion with a word may stand before or after the measure's name.
FRAMES = tuple(
    map(
        re.compile,
        (
            # T1_sleep, Wave 2 - sleep, 2019_sleep
            r"(?P<before>(?P<word>[A-Za-z]*)[_. ]?)(?P<number>\d{1,4})(?P<after>[_. :-]+)"
            r"(?P<measure>(?=.*[^\W\d_])\w.*)",
            # Sleep (T1), sleep wave 1, sleepT1, sleep_6m
            r"(?P<measure>.+?)(?P<before>[_. -]*[(\[] ?(?P<word>[A-Za-z]+)[_. ]?)(?P<number>\d{1,4})(?P<after> ?[)\]])",
            r"(?P<measure>.+?)(?P<before>[_. :-]+(?P<word>[A-Za-z]+)[_. ])(?P<number>\d{1,4})(?P<after>)",
            r"(?P<measure>.*[a-z\d])(?P<before>(?P<word>[A-Z][a-z]*))(?P<number>\d{1,4})(?P<after>)",
            r"(?P<measure>.+?)(?P<before>[_. -]+)(?P<number>\d{1,4})(?P<after> ?(?P<word>[A-Za-z]+))",
        ),
    )
)
# A column without a name in the file.
UNNAMED = re.compile(r"column_\d+")
NUMBER = re.compile(r"\d+")
FOLLOW_UP = re.compile(r"[A-Za-z]+\d{1,3}|\d{1,3}[A-Za-z]+")
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
    names = [name for name in names if not UNNAMED.fullmatch(name)]
    best = _guess_numbered(names)
    for other in (_guess_baseline(names), _guess_framed(names)):
        if other is not None and (best is None or _explains_more(other, best)):
            return other
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


def _guess_framed(names: list[str]) -> Guess | None:
    """Guess measures by a word for the occasion: T1_sleep and T2_sleep, or Sleep (week 1) and Sleep (week 2)."""
    families: dict[str, dict[str, list[str]]] = {}
    for name, frame in product(names, FRAMES):
        parts = frame.fullmatch(name)
        if parts is not None and (word := parts["word"].lower()) in WORDS:
            occasion = "year" if YEAR.fullmatch(parts["number"]) else WORDS[word]
            template = parts["before"] + "{" + occasion + "}" + parts["after"]
            is_first = parts.start("number") < parts.start("measure")
            template = template + "{measure}" if is_first else "{measure}" + template
            families.setdefault(template, {}).setdefault(parts["measure"], []).append(name)
    guesses = []
    for template, measures in families.items():
        repeated = {measure: columns for measure, columns in measures.items() if len(columns) > 1}
        guesses += [Guess((template,), repeated)] if repeated else []
    return _choose_largest(guesses)


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


def _choose_largest(guesses: Sequence[Guess]) -> Guess | None:
    """Return the first of the guesses that explain most columns."""
    return max(guesses, key=lambda guess: len(_columns_of(guess)), default=None)


def _explains_more(first: Guess, second: Guess) -> bool:
    """Return whether the first guess explains as many columns, or some that the second would tear apart."""
    return len(_columns_of(first)) >= len(_columns_of(second)) or bool(_columns_of(first) & _columns_of(second))


def _split_words(names: list[str], fits: Callable[[str], bool]) -> Iterator[tuple[str, dict[str, dict[str, str]]]]:
    """Yield the templates by which names are a measure and a word that fits, with the columns by measure and word."""
    for joint, is_first in product(JOINTS[:-1], (False, True)):
        series: dict[str, dict[str, str]] = {}
        for name in names:
            first, between, last = name.partition(joint) if is_first else name.rpartition(joint)
            word, measure = (first, last) if is_first else (last, first)
            if between and measure and fits(word):
                series.setdefault(measure, {})[word] = name
        yield "{occasion}" + joint + "{measure}" if is_first else "{measure}" + joint + "{occasion}", series


def _guess_baseline(names: list[str]) -> Guess | None:
    """Guess measures that begin with a word for the first occasion, then numbers: bp_baseline, bp_fu1, bp_fu2."""

    def fits(word: str) -> bool:
        return word.lower() in FIRST_WORDS or FOLLOW_UP.fullmatch(word) is not None

    guesses = []
    for template, series in _split_words(names, fits):
        measures, numbers = {}, dict[str, int]()
        for measure, columns in series.items():
            first = [word for word in columns if word.lower() in FIRST_WORDS]
            stems = {NUMBER.sub("", word) for word in columns if word not in first}
            if len(first) == 1 and len(stems) == 1:
                measures[measure] = list(columns.values())
                numbers |= {word: 0 if word in first else int(NUMBER.findall(word)[0]) for word in columns}
        if measures:
            mapping = ",".join(f"{word}={number}" for word, number in numbers.items())
            guesses.append(Guess((template.replace("occasion", "visit"),), measures, (), (mapping,)))
    return _choose_largest(guesses)


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
    """Guess measures that all have the same words: sleep_before, sleep_after, mood_before, mood_after."""
    guesses = []
    for template, series in _split_words(names, str.isalpha):
        sets = Counter(frozenset(columns) for columns in series.values() if len(columns) > 1)
        words, count = max(sets.items(), key=lambda pair: pair[1] * len(pair[0]), default=(frozenset(), 0))
        # Before the measure's name only words for a time are occasions: ship_a and ship_b are two measures.
        if count >= 2 and (template.startswith("{measure}") or any(word.lower() in FIRST_WORDS for word in words)):
            measures = {
                measure: list(columns.values()) for measure, columns in series.items() if columns.keys() == words
            }
            guesses.append(Guess((template,), measures))
    # Of two that explain the same columns the one with a word for the first occasion.
    first = [guess for guess in guesses if guess.templates[0].startswith("{occasion}")]
    return _choose_largest(first + guesses)
