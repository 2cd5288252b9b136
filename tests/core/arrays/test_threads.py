"""Work shared among threads: results in order, the first error, and no waiting for a thread that never began."""

from __future__ import annotations

import contextlib
import threading
from typing import Any
from unittest import mock

import pytest

from lomrix.core.arrays import threads
from lomrix.core.arrays.threads import map_in_threads, run_ahead


@pytest.fixture(autouse=True)
def eight_processors() -> Any:
    with (
        mock.patch("pyarrow.cpu_count", return_value=8),
        mock.patch.object(threads, "_helpers", threading.Semaphore(7)),
    ):
        yield
        assert threads._helpers.acquire(blocking=False)


def test_results_are_in_order_also_of_work_within_work() -> None:
    def sum_to(number: int) -> int:
        return sum(map_in_threads(lambda value: value, range(number)))

    assert map_in_threads(sum_to, range(40)) == [number * (number - 1) // 2 for number in range(40)]
    assert map_in_threads(max, [1, 5, 3], [4, 2, 9]) == [4, 5, 9]
    assert map_in_threads(abs, []) == []


def test_the_first_error_is_raised_and_what_comes_after_it_is_left() -> None:
    begun = []

    def divide(number: int) -> float:
        begun.append(number)
        return 1 / (number % 3 - 1) if number < 50 else 0

    with pytest.raises(ZeroDivisionError):
        map_in_threads(divide, range(10_000))
    assert len(begun) < 10_000


@pytest.mark.parametrize("start", [mock.Mock(side_effect=RuntimeError("can't start new thread")), mock.Mock()])
def test_a_thread_that_never_begins_is_not_waited_for(start: mock.Mock) -> None:
    with mock.patch("_thread.start_new_thread", start):
        assert map_in_threads(abs, range(-5, 0), most=3) == [5, 4, 3, 2, 1]
    assert start.called


@pytest.mark.parametrize("start", [None, mock.Mock(side_effect=RuntimeError("can't start new thread")), mock.Mock()])
def test_parts_are_prepared_ahead_or_where_they_are_needed(start: mock.Mock | None) -> None:
    begun: list[int] = []

    def invert(number: int) -> float:
        begun.append(number)
        return 1 / number

    with mock.patch("_thread.start_new_thread", start) if start else contextlib.nullcontext():
        assert list(run_ahead(invert, ((number,) for number in (1, 2, 4, 5)), 2)) == [1, 0.5, 0.25, 0.2]
        parts = run_ahead(invert, ((number,) for number in (1, 0, 2, 4, 5)), 1)
        assert next(parts) == 1
        with pytest.raises(ZeroDivisionError):
            next(parts)
        assert list(parts) == []
    assert 5 not in begun[4:]
