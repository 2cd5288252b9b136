"""Parts give what the whole gives: table, dictionary, account, extras and errors of every scene, bit by bit."""

from __future__ import annotations

import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.registry import find_entry
from lomrix.core.steps.step import Step
from tests.core.steps.scenes import SCENES
from tests.core.steps.test_whole_accounts import happening


def divides(scene: str) -> bool:
    word, inputs, settings = SCENES[scene]
    entry = find_entry(word)
    assert entry is not None
    try:
        return entry.load()(**settings).can_divide((), {role: len(inputs.get_all(role)) for role in inputs.roles})
    except LomrixError:
        return False


@pytest.mark.parametrize("size", [1, 2, 7, 1000])
@pytest.mark.parametrize("scene", list(filter(divides, SCENES)))
def test_parts_equal_the_whole(scene: str, size: int) -> None:
    word, inputs, settings = SCENES[scene]

    def select(step: Step, wanted: list[str]) -> list[str]:
        return [name for name in wanted if step.can_divide([name])]

    whole = happening(word, inputs, settings, lambda step, tables, wanted: step.apply(tables, select(step, wanted)))
    parts = happening(
        word, inputs, settings, lambda step, tables, wanted: apply_in_parts(step, tables, select(step, wanted), size)
    )
    assert parts == whole
