"""From one row per case to one row per case and occasion."""

from __future__ import annotations

from collections.abc import Collection

from lomrix.core.rows.course import Courses
from lomrix.core.steps.reshape.long_account import LongAccount
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.turn import Turn
from lomrix.core.steps.step import Inputs, Result


def turned(step: ToLong, tables: Inputs, wanted: Collection[str]) -> Result:
    """Turn the table; the measures over the occasions are an extra, to be drawn."""
    work = Turn(step, tables.one())
    long = work.table()
    extras = {"figure": Courses.of(long)} if "figure" in wanted else {}
    return Result(long, LongAccount(work, long).account(), extras)
