"""Reshape to long."""

from __future__ import annotations

from collections.abc import Collection

from lomrix.core.rows.course import Courses
from lomrix.core.steps.reshape.long_account import LongAccount
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.turn import Gathering
from lomrix.core.steps.step import Inputs, Result


def to_long(step: ToLong, tables: Inputs, wanted: Collection[str]) -> Result:
    """Reshape the table; the measures over the occasions are an extra, to be drawn."""
    gathering = Gathering(step, tables.get_one())
    long = gathering.make_table()
    extras = {"figure": Courses.from_long(long)} if "figure" in wanted else {}
    return Result(long, LongAccount(gathering, long).make_account(), extras)
