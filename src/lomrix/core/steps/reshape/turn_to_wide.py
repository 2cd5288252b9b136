"""From one row per case and occasion to one row per case."""

from __future__ import annotations

from collections.abc import Collection

from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_account import WideAccount
from lomrix.core.steps.step import Inputs, Result


def spread(step: ToWide, tables: Inputs, wanted: Collection[str]) -> Result:
    """Turn the table."""
    work = Spreading(step, tables.one())
    wide = work.table()
    return Result(wide, WideAccount(work, wide).account())
