"""What a column of text resembles, so that a person can state how to read it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.characters import unify_characters
from lomrix.core.table.numbers import Type
from lomrix.core.text import rules
from lomrix.core.text.answers import MOST_ANSWERS, find_separator
from lomrix.core.text.dates import find_late_years, guess_date_forms, limit_years
from lomrix.core.text.times import parse_minutes
from lomrix.core.wording import format_operand

# A column resembles what at least this share of its present cells look like.
MOSTLY = 0.5
NEARLY_ALL = 0.75
# A unit beside some numbers, and nothing else, is one if it is there as often as that.
OFTEN = 0.1
SEPARATOR_NAMES = {",": "a comma", ".": "a point", " ": "a space"}


@dataclass(frozen=True)
class Similarity:
    """What the cells look like.

    `kind` is one of `decimal-comma thousands with-sign limits clock pair unclear-date digits-kept offset
    several-answers coded`;
    `pattern` is the regular expression of the cells concerned; `reading` are the settings that read them so.
    """

    kind: str
    text: str
    pattern: str
    reading: tuple[tuple[str, str], ...] = ()

    def cells(self, texts: pa.Array) -> npt.NDArray[np.bool_]:
        """Return for each text whether it is concerned; nulls are not."""
        matches = pc.match_substring_regex(pc.utf8_trim_whitespace(texts), f"^({self.pattern})$")
        return np.array(pc.fill_null(matches, False).to_numpy(zero_copy_only=False), np.bool_)


@dataclass(frozen=True)
class DistinctTexts:
    """Distinct texts of a column with their kinds, and the separators that numbers are read with."""

    name: str
    kinds: Mapping[str, str]
    cells: Mapping[str, int]  # by kind
    decimal: str
    thousands: str

    @property
    def operand(self) -> str:
        """The column as it is written in an expression."""
        return format_operand(self.name)

    @property
    def present(self) -> int:
        """Cells that are not missing."""
        return sum(count for kind, count in self.cells.items() if kind not in ("token", "blank"))

    def share(self, *kinds: str) -> float:
        """Return the share of the present cells that are of some kinds."""
        return sum(self.cells.get(kind, 0) for kind in kinds) / self.present

    @property
    def numbers(self) -> float:
        """The share of numbers."""
        return self.share("integer", "number")

    def resemble_numbers(self, kind: str) -> bool:
        """Return whether some cells are of a kind, and most are of it or numbers."""
        share = self.share(kind)
        return bool(share) and share + self.numbers >= MOSTLY


def find_similarity(name: str, counts: Mapping[str, int], decimal: str = ".", thousands: str = "") -> Similarity | None:
    """Return what some distinct texts (with their counts) resemble, given the separators in use; None if they are just
    text.
    """
    kinds = {text: rules.classify_text(text) for text in counts}
    cells: Counter[str] = Counter()
    for text, count in counts.items():
        cells[kinds[text]] += count
    texts = DistinctTexts(name, kinds, cells, decimal, thousands)
    similarities = (resemble(texts) for resemble in RESEMBLANCES if texts.present)
    return next((similarity for similarity in similarities if similarity), None)


def resemble_thousands(texts: DistinctTexts) -> Similarity | None:
    """Find numbers with a separator between thousands."""
    for kind, (symbol, pattern) in rules.THOUSANDS.items():
        # Among groups of three digits a comma may still be a decimal separator, but it hardly is in every cell.
        if not texts.thousands and texts.resemble_numbers(kind) and not texts.share("comma-number"):
            points = " and ‹decimal=,›" if symbol == "." else ""
            text = f"looks like numbers with {SEPARATOR_NAMES[symbol]} between thousands"
            text += f"; if they are, use ‹thousands={symbol}›{points}"
            text += "; if the comma is a decimal separator, add ‹decimal=,›" if symbol == "," else ""
            reading = (("thousands", symbol), *((("decimal", ","),) if points else ()))
            return Similarity("thousands", text, pattern, reading)
    return None


def resemble_signed(texts: DistinctTexts) -> Similarity | None:
    """Find numbers with the sign of a percentage or a currency."""
    units = {re.split(r"\d ?", text.strip())[-1] for text, kind in texts.kinds.items() if kind == "with-unit"}
    signs = [("percent", "%", rules.PERCENT), ("currency", "a currency sign", rules.CURRENCY)]
    share, is_often = texts.share("with-unit"), texts.cells.get("with-unit", 0) > 1
    is_often &= share >= OFTEN and share + texts.numbers == 1
    if len(units) == 1 and (share >= MOSTLY or is_often):
        signs.append(("with-unit", units.pop(), rules.WITH_UNIT))
    for kind, symbol, pattern in signs:
        if texts.resemble_numbers(kind):
            text = f"looks like numbers with {symbol}, and stays text; derive the number: "
            return Similarity("with-sign", text + f"to_number(part({texts.operand}, '[-+0-9.]+'))", pattern)
    return None


def resemble_limits(texts: DistinctTexts) -> Similarity | None:
    """Find numbers among limits, as laboratories write them."""
    if not texts.resemble_numbers("limit"):
        return None
    text = "looks like numbers and limits such as <0.5, and stays text; derive the number: "
    text += f"to_number(part({texts.operand}, '[0-9.]+')), and what is a limit: is_missing(to_number({texts.operand}))"
    return Similarity("limits", text, rules.LIMIT)


def resemble_minus(texts: DistinctTexts) -> Similarity | None:
    """Find numbers with a dash in place of the minus."""
    words = [text for text, kind in texts.kinds.items() if kind == "text"]
    kinds = {rules.classify_text(unify_characters(text)) for text in words}
    have_dashes = all(re.match(rules.DASH, text.strip()) for text in words)
    if not words or not have_dashes or not kinds <= {"integer", "number"}:
        return None
    text = "looks like numbers with a dash in place of the minus, and stays text; derive the number: "
    return Similarity("with-sign", f"{text}to_number(plain({texts.operand}))", f"{rules.DASH}.*")


def resemble_times(texts: DistinctTexts) -> Similarity | None:
    """Find times of day, and durations in hours and minutes."""
    present = [text for text, kind in texts.kinds.items() if kind not in ("token", "blank")]
    if texts.share("clock", "with-unit", "text") < MOSTLY:
        return None
    if sum(parse_minutes(text) is not None for text in present) < NEARLY_ALL * len(present):
        return None
    text = f"looks like hours and minutes, and stays text; derive the minutes: to_minutes({texts.operand})"
    return Similarity("clock", text, r".*\d.*")


def resemble_pairs(texts: DistinctTexts) -> Similarity | None:
    """Find two numbers in a cell, such as blood pressures."""
    if texts.share("pair") < NEARLY_ALL:
        return None
    first, second = (f"to_number(split_part({texts.operand}, '/', {place}))" for place in (1, 2))
    text = f"looks like two numbers in a cell, and stays text; derive them: {first} and {second}"
    return Similarity("pair", text, rules.PAIR)


def resemble_comma_numbers(texts: DistinctTexts) -> Similarity | None:
    """Find numbers with a decimal comma."""
    if texts.decimal != "." or not texts.resemble_numbers("comma-number"):
        return None
    text = "looks like numbers with a decimal comma; if it is, use ‹decimal=,›"
    return Similarity("decimal-comma", text, rules.COMMA_NUMBER, (("decimal", ","),))


def resemble_offsets(texts: DistinctTexts) -> Similarity | None:
    """Find timestamps with a UTC offset."""
    if texts.share("moment-with-offset") < MOSTLY:
        return None
    text = "timestamps with a UTC offset are kept as text; read the time that the clock there showed with "
    text += f"‹type={texts.name}=datetime:local›, or the time in UTC with ‹type={texts.name}=datetime:utc›."
    return Similarity("offset", text, rules.WITH_OFFSET, (("type", f"{texts.name}=datetime:local"),))


def resemble_kept_digits(texts: DistinctTexts) -> Similarity | None:
    """Find numbers that stay text because of cells that look like ids."""
    kept = texts.cells.get("keep", 0)
    if not kept:
        return None
    # Ids of one length begin with zeros where they are small; the only cell of many that does is hardly one of them.
    differ = len({len(text.strip()) for text in texts.kinds}) > 1
    is_no_id = (kept == 1 and texts.numbers >= NEARLY_ALL) or differ
    parsed_otherwise = any(kind == "keep" and re.search(r"E|\+", text) for text, kind in texts.kinds.items())
    are_numbers = texts.numbers >= MOSTLY and is_no_id
    if not are_numbers and not (parsed_otherwise and texts.numbers + kept / texts.present >= MOSTLY):
        return None
    text = "stays text because of cells that look like ids (leading zeros, over 15 digits, 12E4, +49123); "
    # Whole numbers of up to 18 digits are held to the last digit.
    digits = [text.strip() for text, kind in texts.kinds.items() if kind in ("integer", "number", "keep")]
    type_ = "integer" if all(re.fullmatch(rules.WHOLE, text) for text in digits) else "number"
    text += f"if they are numbers, use ‹type={texts.name}={type_}›"
    return Similarity("digits-kept", text, rules.ID_LIKE)


def resemble_dates(texts: DistinctTexts) -> Similarity | None:
    """Find dates that are not read as such by themselves."""
    if texts.share("unclear-date", "text") < MOSTLY:
        return None
    dates = [text for text, kind in texts.kinds.items() if kind in ("unclear-date", "text")]
    form = guess_date_forms(dates)
    if not form:
        return None
    if find_late_years(pa.array(dates, pa.large_string()), form.removeprefix("?")).any():
        form = limit_years(form)
    type_ = "datetime" if "%H" in form else "date"
    type_ = f"{texts.name}={type_}:{form.removeprefix('?')}"
    several = " in several forms" if "|" in form or texts.share("date", "datetime") else ""
    text = f"looks like dates{several}; use ‹type={type_}› to read it so"
    text += ", if the day comes first." if form.startswith("?") else "."
    return Similarity("unclear-date", text, rules.ANY_DATE, () if form.startswith("?") else (("type", type_),))


def resemble_answers(texts: DistinctTexts) -> Similarity | None:
    """Find cells with several answers of a few, such as 1;3 beside 1;2;5."""
    separator = find_separator(text for text, kind in texts.kinds.items() if kind not in ("token", "blank"))
    if not separator or not texts.share("text"):
        return None
    shown = "line breaks" if separator == "\n" else f'"{separator}"'
    text = f"looks like several answers in a cell, separated by {shown}; "
    text += f"recode it with ‹to_answers={texts.name}› to have a column for each"
    return Similarity("several-answers", text, f"(?s:.*{re.escape(separator)}.*)")


def resemble_codes(texts: DistinctTexts) -> Similarity | None:
    """Find codes with their labels."""
    values = [text for text, kind in texts.kinds.items() if kind not in ("token", "blank")]
    if not 2 <= len(values) <= MOST_ANSWERS or len(values) == texts.present:
        return None
    coded = rules.find_codes(values)
    if len(coded) < len(values) or all(re.fullmatch(rules.CODE, text) for text in values):
        return None
    text = f"looks like codes with their labels; recode it with ‹to_codes={texts.name}› to have both"
    return Similarity("coded", text, rules.CODED)


# In this order, the first that applies.
RESEMBLANCES: tuple[Callable[[DistinctTexts], Similarity | None], ...] = (
    resemble_thousands,
    resemble_signed,
    resemble_limits,
    resemble_minus,
    resemble_times,
    resemble_pairs,
    resemble_comma_numbers,
    resemble_offsets,
    resemble_kept_digits,
    resemble_dates,
    resemble_answers,
    resemble_codes,
)


def guess_type(kinds: Counter[str]) -> Type:
    """Return the type that a sample suggests; only all cells decide whether it holds."""
    present = sum(kinds.values()) - kinds["token"] - kinds["blank"]
    if not present:
        return "integer"
    if kinds["keep"]:
        return "string"
    numbers = kinds["integer"] + kinds["number"]
    if numbers >= MOSTLY * present:
        return "number" if kinds["number"] else "integer"
    dates = kinds["date"] + kinds["datetime"]
    if dates >= MOSTLY * present:
        return "datetime" if kinds["datetime"] else "date"
    return "boolean" if kinds["boolean"] == present else "string"


def guess_number_type(kinds: Counter[str]) -> Type | None:
    """Return integer or number if a few cells are nothing else; None if more must be examined."""
    if not kinds or set(kinds) - {"integer", "number"}:
        return None
    return "number" if kinds["number"] else "integer"
