"""Reshape to wide."""

from __future__ import annotations

from collections.abc import Collection

from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_account import WideAccount
from lomrix.core.steps.step import Inputs, Result


def to_wide(step: ToWide, tables: Inputs, wanted: Collection[str]) -> Result:
    """Reshape the table."""
    spreading = Spreading(step, tables.get_one())
    wide = spreading.make_table()
    return Result(wide, WideAccount(spreading, wide).make_account())
