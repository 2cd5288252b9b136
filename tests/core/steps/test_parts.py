"""Parts give what the whole gives: table, dictionary, account, extras and errors of every scene, bit by bit."""

from __future__ import annotations

import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.registry import find_entry
from tests.core.steps.scenes import SCENES
from tests.core.steps.test_whole_accounts import happening, sections


def divides(scene: str) -> bool:
    word, _, settings = SCENES[scene]
    entry = find_entry(word)
    assert entry is not None
    try:
        return entry.load()(**settings).division.kind != "whole"
    except LomrixError:
        return False


@pytest.mark.parametrize("size", [1, 2, 7, 1000])
@pytest.mark.parametrize("scene", filter(divides, SCENES))
def test_parts_equal_the_whole(scene: str, size: int) -> None:
    word, inputs, settings = SCENES[scene]
    made = happening(word, inputs, settings, lambda step, tables, wanted: apply_in_parts(step, tables, wanted, size))
    assert made == sections(word)[scene]
