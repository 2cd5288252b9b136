"""Short names: unique, and with the stem of the measure and its occasion kept as far as there is room."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

# The occasion at the end of a name: digits, mostly behind one letter that says what they count.
OCCASION = re.compile(r"(?P<stem>.+?)(?P<between>[_.\- ]?)(?P<unit>[A-Za-z]?)(?P<number>\d{1,4})", re.ASCII)
SHORTEST_STEM = 2
WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
VOWELS = re.compile(r"(?<=\w)[aeiouAEIOU]")


def short_names(names: Sequence[str], most: int) -> dict[str, str]:
    """A short name for each name.

    Parameters
    ----------
    names
        The names.
    most
        Signs that a short name has at most, 4 or more.

    Returns
    -------
    By name its short one: letters, digits and underscores with a letter in front; no two are equal, small and capital
    letters taken for the same. One stem is shortened alike in all names that have it.

    Examples
    --------
    >>> list(short_names(["crew_id", "sleep_minutes_m0", "sleep_minutes_m12", "sleep_quality_m0"], 8).values())
    ['crew_id', 'sleep_0', 'sleep_12', 'slqual_0']
    """
    made, used = dict[str, str](), set[str]()
    stems: dict[tuple[str, str], list[tuple[str, str]]] = {}
    for name in names:
        if len(plain(name)) <= most:
            made[name] = free(plain(name), used, most)
            used.add(made[name].lower())
        else:
            stem, between, occasion = stem_and_occasion(name)
            if len(occasion) > most - SHORTEST_STEM:
                stem, between, occasion = name, "", ""
            stems.setdefault((stem, between), []).append((name, occasion))
    for (stem, _), members in stems.items():
        room = most - max(len(occasion) for _, occasion in members)
        for short in candidates(stem, room):
            wanted = {name: short + occasion for name, occasion in members}
            if not used & {one.lower() for one in wanted.values()}:
                break
        made |= wanted
        used |= {one.lower() for one in wanted.values()}
    return {name: made[name] for name in names}


def stem_and_occasion(name: str) -> tuple[str, str, str]:
    """The stem of a name, what stands between it and the number of its occasion, and that with an underscore.

    Examples
    --------
    >>> stem_and_occasion("sleep_minutes_m12"), stem_and_occasion("f1"), stem_and_occasion("vessel_code")
    (('sleep_minutes', '_m', '_12'), ('f', '', '_1'), ('vessel_code', '', ''))
    """
    found = OCCASION.fullmatch(name)
    if found is None:
        return name, "", ""
    return found["stem"], found["between"] + found["unit"], "_" + found["number"]


def plain(name: str) -> str:
    """A name with letters, digits and underscores only, and a letter in front."""
    made = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "v"
    return made if made[0].isalpha() else f"v{made}"


def candidates(stem: str, room: int) -> Iterator[str]:
    """Ever less telling short forms of a stem, the last ones numbered and without end."""
    whole = plain(stem)
    words = WORDS.findall(whole) or [whole]
    if len(whole) <= room:
        yield whole
    for count in range(len(words), 0, -1):
        joined = "_".join(words[:count])
        if len(joined) <= room:
            yield joined
            break
    if len(words) > 1:
        first = min(2, room - 1)
        yield (words[0][:first] + words[-1][: max(room - first, 1)])[:room]
        yield "".join(word[: max(room // len(words), 1)] for word in words)[:room]
    yield VOWELS.sub("", whole).replace("_", "")[:room]
    yield whole[:room].rstrip("_") or "v"
    number = 2
    while True:
        tail = str(number)
        yield (whole[: max(room - len(tail), 1)].rstrip("_") or "v") + tail
        number += 1


def free(wanted: str, used: set[str], most: int) -> str:
    """The name that is wanted, or one like it that is not used."""
    number, made = 2, wanted
    while made.lower() in used:
        tail = str(number)
        made, number = wanted[: most - len(tail)] + tail, number + 1
    return made
