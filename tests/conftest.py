"""Settings of all tests."""

from __future__ import annotations

from hypothesis import settings

# How long a machine takes is measured in bench/, never here.
settings.register_profile("lomrix", deadline=None)
settings.load_profile("lomrix")
