"""Times of day and durations in texts."""

from __future__ import annotations

import datetime
import re

HALVES = r"(?P<half>[ap])\.?m\.?"
TIME_FORMS = tuple(
    re.compile(form, re.IGNORECASE)
    for form in (
        r"(?P<sign>-?)(?P<hours>\d{1,5}):(?P<minutes>[0-5]\d)(:(?P<seconds>[0-5]\d(\.\d+)?))?",
        rf"(?P<hours>0?[1-9]|1[0-2])([:.](?P<minutes>[0-5]\d))? ?{HALVES}",
        r"(?P<hours>\d{1,3}) ?(h|hrs?|hours?)\.? ?((?P<minutes>[0-5]?\d) ?(m|mins?|minutes?)?\.?)?",
        r"(?P<hours>\d{1,3}[.,]\d+) ?(h|hrs?|hours?)\.?",
        r"(?P<minutes>\d{1,5}([.,]\d+)?) ?(m|mins?|minutes?)\.?",
    )
)


def parse_minutes(text: str) -> float | None:
    """Return the minutes of a time of day, or of a duration; None if the text is neither.

    >>> [parse_minutes(text) for text in ("7:30", "10.30 p.m.", "12 am", "24:00", "7h 30m", "1,5 h", "450 min")]
    [450.0, 1350.0, 0.0, 1440.0, 450.0, 90.0, 450.0]
    >>> [parse_minutes(text) for text in ("7.5", "2245", "7:65", "13 pm")]  # without a unit it may be anything
    [None, None, None, None]
    """
    match = next((match for form in TIME_FORMS if (match := form.fullmatch(text.strip()))), None)
    if match is None:
        return None
    parts = {name: part.replace(",", ".").lower() for name, part in match.groupdict(default="0").items()}
    hours, minutes, seconds = (float(parts.get(name, "0")) for name in ("hours", "minutes", "seconds"))
    if half := parts.get("half"):
        hours = hours % 12 + (12 if half == "p" else 0)
    return (hours * 60 + minutes + seconds / 60) * (-1 if parts.get("sign") == "-" else 1)


def format_duration(duration: datetime.timedelta) -> str:
    """Return a duration as hours, minutes and seconds, also if it is longer than a day.

    >>> format_duration(datetime.timedelta(hours=28, minutes=30)), format_duration(datetime.timedelta(seconds=-1.5))
    ('28:30:00', '-0:00:01.500000')
    """
    microseconds = abs(duration) // datetime.timedelta(microseconds=1)
    minutes, rest = divmod(microseconds, 60_000_000)
    seconds, fraction = divmod(rest, 1_000_000)
    text = f"{minutes // 60}:{minutes % 60:02}:{seconds:02}" + (f".{fraction:06}" if fraction else "")
    return f"-{text}" if duration < datetime.timedelta() else text
