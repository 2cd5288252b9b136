"""Parts give what the whole gives: table, dictionary, account, extras and errors of every scene, bit by bit."""

from __future__ import annotations

import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.registry import find_entry
from lomrix.core.steps.step import Inputs, Result, Step
from tests.core.steps.scenes import SCENES
from tests.core.steps.test_whole_accounts import happening, sections

DRAWN = "(case="


def divides(scene: str) -> bool:
    word, _, settings = SCENES[scene]
    entry = find_entry(word)
    assert entry is not None
    try:
        return entry.load()(**settings).division.kind != "whole"
    except LomrixError:
        return False


@pytest.mark.parametrize("size", [1, 2, 7, 1000])
@pytest.mark.parametrize("scene", list(filter(divides, SCENES)))
def test_parts_equal_the_whole(scene: str, size: int) -> None:
    word, inputs, settings = SCENES[scene]

    def apply(step: Step, tables: Inputs, wanted: list[str]) -> Result:
        return apply_in_parts(step, tables, [name for name in wanted if step.can_divide([name])], size)

    # Figures are drawn of the whole only.
    expected = [line for line in sections(word)[scene] if not line.startswith("extra figure")]
    made = happening(word, inputs, settings, apply)
    assert [line for line in made if not line.startswith(DRAWN)] == [
        line for line in expected if not line.startswith(DRAWN)
    ]
