"""Short names: unique, keeping the stem of the measure and its occasion as far as possible."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

# The occasion at the end of a name: digits, mostly after one letter for their kind.
OCCASION = re.compile(r"(?P<stem>.+?)(?P<between>[_.\- ]?)(?P<unit>[A-Za-z]?)(?P<number>\d{1,4})", re.ASCII)
SHORTEST_STEM = 2
WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
VOWELS = re.compile(r"(?<=\w)[aeiouAEIOU]")


def make_short_names(names: Sequence[str], most: int) -> dict[str, str]:
    """Return a short name for each name: letters, digits and underscores (at most `most` characters, 4 or more)
    beginning with a letter; unique regardless of case. A stem is shortened in the same way in all names.

    >>> list(make_short_names(["crew_id", "sleep_minutes_m0", "sleep_minutes_m12", "sleep_quality_m0"], 8).values())
    ['crew_id', 'sleep_0', 'sleep_12', 'slqual_0']
    """
    result, used = dict[str, str](), set[str]()
    stems: dict[tuple[str, str], list[tuple[str, str]]] = {}
    for name in names:
        if len(to_plain_name(name)) <= most:
            result[name] = make_unique(to_plain_name(name), used, most)
            used.add(result[name].lower())
        else:
            stem, between, occasion = split_name(name)
            if len(occasion) > most - SHORTEST_STEM:
                stem, between, occasion = name, "", ""
            stems.setdefault((stem, between), []).append((name, occasion))
    for (stem, _), members in stems.items():
        width = most - max(len(occasion) for _, occasion in members)
        for short in propose_stems(stem, width):
            proposed = {name: short + occasion for name, occasion in members}
            if not used & {new_name.lower() for new_name in proposed.values()}:
                break
        result |= proposed
        used |= {new_name.lower() for new_name in proposed.values()}
    return {name: result[name] for name in names}


def split_name(name: str) -> tuple[str, str, str]:
    """Split a name into stem, what is between it and the occasion's number, and that number with an underscore.

    >>> split_name("sleep_minutes_m12"), split_name("f1"), split_name("vessel_code")
    (('sleep_minutes', '_m', '_12'), ('f', '', '_1'), ('vessel_code', '', ''))
    """
    match = OCCASION.fullmatch(name)
    if match is None:
        return name, "", ""
    return match["stem"], match["between"] + match["unit"], "_" + match["number"]


def to_plain_name(name: str) -> str:
    """Return a name with only letters, digits and underscores, beginning with a letter."""
    result = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "v"
    return result if result[0].isalpha() else f"v{result}"


def propose_stems(stem: str, width: int) -> Iterator[str]:
    """Yield ever shorter forms of a stem, the last ones numbered, without end."""
    plain_stem = to_plain_name(stem)
    words = WORDS.findall(plain_stem) or [plain_stem]
    if len(plain_stem) <= width:
        yield plain_stem
    for count in range(len(words), 0, -1):
        joined = "_".join(words[:count])
        if len(joined) <= width:
            yield joined
            break
    if len(words) > 1:
        first = min(2, width - 1)
        yield (words[0][:first] + words[-1][: max(width - first, 1)])[:width]
        yield "".join(word[: max(width // len(words), 1)] for word in words)[:width]
    yield VOWELS.sub("", plain_stem).replace("_", "")[:width]
    yield plain_stem[:width].rstrip("_") or "v"
    number = 2
    while True:
        tail = str(number)
        yield (plain_stem[: max(width - len(tail), 1)].rstrip("_") or "v") + tail
        number += 1


def make_unique(proposed: str, used: set[str], most: int) -> str:
    """Return the name, or a similar one that is not used."""
    number, result = 2, proposed
    while result.lower() in used:
        tail = str(number)
        result, number = proposed[: most - len(tail)] + tail, number + 1
    return result
