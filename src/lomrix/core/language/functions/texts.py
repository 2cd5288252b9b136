"""Functions of texts, computed once for each distinct text."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import make_result
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type, is_number
from lomrix.core.table.pool import Pool
from lomrix.core.text.values import collapse_spaces, unify_texts

KIND = "texts"
LONGEST = 1000
MINUS, NOTHING = pa.scalar("-", pa.large_string()), pa.scalar("", pa.large_string())


def as_texts(column: Column, name: str) -> Column:
    """Return an operand as text, each distinct one once.

    Raises UsageError if it is not text.
    """
    column = column.fit_type("string")
    if column.type != "string":
        raise UsageError(f"{name}() needs text, but the operand is {column.type}.", todo="Use a column of text.")
    return column.encode()


def map_to_text(column: Column, name: str, compute: Callable[[pa.Array], pa.Array]) -> Column:
    """Map texts to texts; a null result is undefined."""
    coded = as_texts(column, name)
    result = compute(coded.strings.strings)
    gone = np.append(np.asarray(result.is_null().to_numpy(zero_copy_only=False)), False)[coded.values]
    filled = result.fill_null("").cast(pa.large_string())
    column = Column.of_strings(coded.values, Pool(filled), coded.why, coded.reasons)
    return column.with_missing(gone, "undefined")


def map_to_value(column: Column, name: str, type_: Type, compute: Callable[[pa.Array], pa.Array]) -> Column:
    """Map texts to numbers or booleans."""
    coded = as_texts(column, name)
    values = np.append(np.asarray(compute(coded.strings.strings).to_numpy(zero_copy_only=False)), 0)
    return make_result(type_, values[coded.values], [coded])


@function(KIND, keeps=True)
def strip(x: Column) -> Column:
    """strip(x): the text without surrounding spaces

    Examples
    --------
    strip(' day ') is day
    """
    return map_to_text(x, "strip", pc.utf8_trim_whitespace)


@function(KIND, keeps=True)
def plain(x: Column) -> Column:
    """plain(x): the text with plain spaces, dashes and apostrophes, each accent with its letter, and nothing invisible

    Examples
    --------
    plain('O’Neill  ') is O'Neill
    """
    return map_to_text(x, "plain", lambda texts: collapse_spaces(unify_texts(texts)))


@function(KIND)
def upper(x: Column) -> Column:
    """upper(x): the text in capitals

    Examples
    --------
    upper('day') is DAY
    """
    return map_to_text(x, "upper", pc.utf8_upper)


@function(KIND)
def lower(x: Column) -> Column:
    """lower(x): the text in small letters

    Examples
    --------
    lower('Day') is day
    """
    return map_to_text(x, "lower", pc.utf8_lower)


@function(KIND)
def length(x: Column) -> Column:
    """length(x): the number of characters in a text

    Examples
    --------
    length('day') is 3
    """
    return map_to_value(x, "length", "integer", pc.utf8_length)


@function(KIND)
def contains(x: Column, text: str) -> Column:
    """contains(x, "text"): true if the text contains that part

    Examples
    --------
    contains(t, 'gh') of t night, day is True, False
    """
    return map_to_value(x, "contains", "boolean", lambda texts: pc.match_substring(texts, text))


@function(KIND)
def begins(x: Column, text: str) -> Column:
    """begins(x, "text"): true if the text begins with that part

    Examples
    --------
    begins(t, 'ni') of t night, day is True, False
    """
    return map_to_value(x, "begins", "boolean", lambda texts: pc.starts_with(texts, text))


@function(KIND)
def ends(x: Column, text: str) -> Column:
    """ends(x, "text"): true if the text ends with that part

    Examples
    --------
    ends(t, 'ay') of t night, day is False, True
    """
    return map_to_value(x, "ends", "boolean", lambda texts: pc.ends_with(texts, text))


@function(KIND)
def joined(a: Column, b: Column, *more: Column, with_: str = "") -> Column:
    """joined(a, b, with="-"): the texts joined, with a separator

    Examples
    --------
    joined(t, x, with="-") of t a, b; x 1, — is a-1, —
    """
    columns = [a, b, *more]
    texts = [column.to_text().cast(pa.large_string()).fill_null("") for column in columns]
    result = pc.binary_join_element_wise(*texts, pa.scalar(with_, pa.large_string()))
    like = make_result("boolean", np.zeros(len(a), np.bool_), columns)
    return (
        Column.of_strings(None, Pool(result), like.why, like.reasons)
        if like.why is None
        else make_missing_like(result, like)
    )


def make_missing_like(texts: pa.Array, like: Column) -> Column:
    """Return texts that are missing where another column is, for its reasons."""
    nulls = pa.array(np.asarray(like.is_missing))
    masked = pc.if_else(nulls, pa.scalar(None, pa.large_string()), texts)
    return Column.of_strings(None, Pool(masked), like.why, like.reasons)


@function(KIND)
def part(x: Column, pattern: str) -> Column:
    r"""part(x, "pattern"): the part of the text that matches a regular expression, or its first group

    Examples
    --------
    part(t, "_(m[0-9]+)") of t sleep_m12, total is m12, —
    """
    expression = name_first_group(pattern)
    try:
        pc.extract_regex(pa.array([""], pa.large_string()), expression)
    except pa.ArrowInvalid as error:
        raise UsageError(
            f'"{pattern}" is not a supported regular expression.',
            todo='For example part(x, "m([0-9]+)"): letters as they are, [0-9]+ for digits, () around the wanted part.',
        ) from error
    return map_to_text(x, "part", lambda texts: pc.struct_field(pc.extract_regex(texts, expression), "part"))


@function(KIND)
def split_part(x: Column, separator: str, number: int) -> Column:
    """split_part(x, "/", 2): the first, second … part of a text that a separator divides

    Examples
    --------
    split_part(t, "-", 2) of t north-1a, south is 1a, —
    """
    if not separator or number < 1:
        raise UsageError("split_part() needs a separator, and counts from 1.", todo='Write split_part(x, "/", 1).')

    def take_part(texts: pa.Array) -> pa.Array:
        parts = pc.split_pattern(texts, separator)
        return pc.list_element(pc.list_slice(parts, number - 1, number, return_fixed_size_list=True), 0)

    return map_to_text(x, "split_part", take_part)


@function(KIND)
def replaced(x: Column, old: str, new: str) -> Column:
    """replaced(x, " ", "-"): the text with each occurrence of a part replaced, or taken out with ""

    Examples
    --------
    replaced(t, "-", "") of t KW-0-1, KW01 is KW01, KW01
    """
    if not old:
        raise UsageError("replaced() needs the part to replace.", todo='Write replaced(x, "-", "").')
    return map_to_text(x, "replaced", lambda texts: pc.replace_substring(texts, old, new))


def name_first_group(pattern: str) -> str:
    """Name the first group `part` and make the others non-capturing; without a group, all of the pattern is it.

    Examples
    --------
    >>> name_first_group("m([0-9]+)"), name_first_group("[(]a"), name_first_group("a(b)(c)")
    ('m(?P<part>[0-9]+)', '(?P<part>[(]a)', 'a(?P<part>b)(?:c)')
    """
    result, index, has_name, in_brackets = "", 0, False, False
    while index < len(pattern):
        character = pattern[index]
        if character == "\\":
            result += pattern[index : index + 2]
            index += 2
            continue
        in_brackets = character == "[" or (in_brackets and character != "]")
        if character == "(" and not in_brackets and pattern[index + 1 : index + 2] != "?":
            result += "(?:" if has_name else "(?P<part>"
            has_name = True
        else:
            result += character
        index += 1
    return result if has_name else f"(?P<part>{pattern})"


@function(KIND)
def to_number(x: Column) -> Column:
    """to_number(x): the number in a text; integers if all are whole

    Examples
    --------
    to_number(t) of t 12, 7, abc is 12, 7, —
    """
    if x.type in ("integer", "number"):
        return x
    if x.type == "boolean":
        return make_result("integer", x.values.astype(np.int64), [x])
    coded = as_texts(x, "to_number").compact()
    texts = [text.strip() for text in coded.strings.texts()]
    fits = [is_number(text) and abs(float(text)) < float("inf") for text in texts]
    numbers = [text for text, fit in zip(texts, fits, strict=True) if fit]
    whole = all(text.lstrip("+-").isdecimal() and abs(int(text)) < 2**63 for text in numbers)
    kind: Any = int if whole else float
    cells = [kind(text) if fit else 0 for text, fit in zip(texts, fits, strict=True)]
    values = np.array([*cells, 0], np.int64 if whole else np.float64)[coded.values]
    return make_result("integer" if whole else "number", values, [coded], ~np.array([*fits, True])[coded.values])


@function(KIND)
def zero_padded(x: Column, digits: int) -> Column:
    """zero_padded(x, 4): the number or text, padded with leading zeros

    Examples
    --------
    zero_padded(x, 4) of x 97, 12345 is 0097, 12345
    """
    if not 1 <= digits <= LONGEST:
        raise UsageError(
            f"zero_padded() gives 1 to {LONGEST} characters, not {digits}.", todo="Write zero_padded(x, 4)."
        )
    if x.type == "integer":
        x = Column.of_strings(None, Pool(x.to_text()), x.why, x.reasons)

    def padded(texts: pa.Array) -> pa.Array:
        body = pc.utf8_slice_codeunits(texts, start=1)
        below = pc.binary_join_element_wise(MINUS, pc.utf8_lpad(body, width=digits - 1, padding="0"), NOTHING)
        return pc.if_else(pc.starts_with(texts, "-"), below, pc.utf8_lpad(texts, width=digits, padding="0"))

    return map_to_text(x, "zero_padded", padded)
