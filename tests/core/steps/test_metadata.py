"""The dictionary entry of a changed variable keeps what still holds, and the account names the rest."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from lomrix.core.steps.derive.settings import Derive
from lomrix.core.steps.export.settings import Export
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.step import Step
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.tables import sources, table

SLEEP = Variable(label="Sleep", unit="min", description="By diary.", minimum=0, maximum=900, missing={"-9": "refused"},
                 level="occasion")  # fmt: skip
MOOD = Variable(label="Mood", codes="moods", missing={"-9": "refused"}, minimum=1, maximum=3)
KNOWN = Dictionary({"sleep": SLEEP, "mood": MOOD, "nap": Variable(unit="min", maximum=90)},
                   {"moods": {"1": "low", "2 to 3": "fine"}})  # fmt: skip
SOURCE = table("t", KNOWN, sleep=[400, 300, None], mood=[1, 2, 3], nap=[10, 20, 30])


@pytest.mark.parametrize(("expression", "name", "expected", "dropped"), [
    ("sleep = sleep / 60", "sleep", {"label": "Sleep", "level": "occasion", "missing": {"-9": "refused"}},
     "unit (min), minimum (0), maximum (900)"),
    ("nm = mood", "nm", MOOD.model_dump(exclude_defaults=True), ""),
    ("h = sleep / 60", "h", {}, ""),
    ("x = first_present(sleep, nap)", "x", {"unit": "min"}, ""),
    ("sleep = sleep if sleep < 350 else missing('long')", "sleep",
     SLEEP.model_dump(exclude_defaults=True, exclude={"description"}), ""),
    ("mood = -9 if mood == 1 else 5", "mood", {"label": "Mood"},
     "minimum (1), maximum (3), codes (moods), missing code -9"),
])  # fmt: skip
def test_a_derived_variable_keeps_what_holds(
    expression: str, name: str, expected: dict[str, Any], dropped: str
) -> None:
    made = Derive(expressions=(expression,), replace=True).apply(sources(SOURCE))
    entry = made.table.dictionary.of(name).model_dump(exclude_defaults=True, exclude={"description"})
    assert entry == expected
    notes = [note.text for note in made.account.notes if note.kind == "dropped"]
    assert notes == ([f"no longer holds and was dropped from the dictionary: {dropped}."] if dropped else [])


def test_a_recoded_variable_keeps_what_holds() -> None:
    made = Recode(map=("mood: 1=10, 2=20, 3=30",)).apply(sources(SOURCE)).table.dictionary
    assert dict(made.labels_of("mood")) == {"10": "low", "20": "fine", "30": "fine"}
    assert (made.of("mood").minimum, made.of("mood").maximum, made.of("mood").label) == (None, None, "Mood")
    # 3 stays, and with it the range that it lies in.
    part = Recode(map=("mood: 2=20",)).apply(sources(SOURCE)).table.dictionary
    assert dict(part.labels_of("mood")) == {"1": "low", "20": "fine", "2 to 3": "fine"}
    gone = Recode(map=("sleep: 400=missing:implausible",)).apply(sources(SOURCE))
    assert gone.table.dictionary.of("sleep") == SLEEP
    assert not [note for note in gone.account.notes if note.kind == "dropped"]
    words = Recode(to_labels="mood").apply(sources(SOURCE))
    entry = words.table.dictionary.of("mood")
    assert (entry.minimum, entry.codes, entry.label) == (None, None, "Mood")
    turned = Recode(reverse="mood", span="1:4").apply(sources(SOURCE)).table.dictionary
    assert (turned.of("mood").minimum, turned.of("mood").maximum) == (2, 4)
    assert dict(turned.labels_of("mood")) == {"4": "low", "2 to 3": "fine"}


def test_labels_shown_in_an_export_have_no_limits() -> None:
    made = Export(show_labels="mood").apply(sources(SOURCE)).table
    assert made["mood"].cells() == ["low", "fine", "fine"]
    assert made.dictionary.of("mood").minimum is None


RULES = {"short": "sleep < 900", "fine": "mood <= 3", "both": "sleep > nap", "listed": "count_of('mood,nap') > 0"}


@pytest.mark.parametrize(("step", "kept"), [
    (Derive(expressions=("sleep = sleep / 60",), replace=True), ["fine", "listed"]),
    (Derive(expressions=("hours = sleep / 60",)), list(RULES)),
    (Recode(map=("mood: 1=10",)), ["short", "both"]),
    (Recode(map=("mood: 1=missing:odd",)), list(RULES)),
    (Export(show_labels="mood"), ["short", "both"]),
])  # fmt: skip
def test_rules_about_a_changed_variable_are_dropped(step: Step, kept: list[str]) -> None:
    known = replace(KNOWN, rules=RULES)
    result = step.apply(sources(replace(SOURCE, dictionary=known)))
    assert list(result.table.dictionary.rules) == kept
    assert [note.count for note in result.account.notes if note.kind == "rules-dropped"] == (
        [len(RULES) - len(kept)] if len(kept) < len(RULES) else []
    )


def test_rules_follow_new_names() -> None:
    known = replace(KNOWN, rules=RULES)
    renamed = Derive(rename=("sleep=slept",)).apply(sources(replace(SOURCE, dictionary=known))).table
    assert renamed.dictionary.rules["both"] == "slept > nap"
