"""Settings of all tests."""

from __future__ import annotations

import gc
import os

import pytest
from hypothesis import HealthCheck, settings

# As the program does it: hardly any of what is made here refers to itself.
gc.set_threshold(100_000, 50, 50)

# How long a machine takes is measured in bench/, never here.
settings.register_profile("lomrix", deadline=None, max_examples=30)
# A mutant that lives does so in hundreds of runs; a few examples each are enough to see it die.
settings.register_profile(
    "mutants", deadline=None, max_examples=12, derandomize=True, suppress_health_check=list(HealthCheck)
)
settings.load_profile(os.environ.get("LOMRIX_TEST_PROFILE", "lomrix"))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest tests first, so that no worker waits for one at the end."""
    items.sort(key=lambda item: "test_documents" not in item.nodeid)
