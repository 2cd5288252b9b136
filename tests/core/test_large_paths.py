"""What is done differently with large tables is the same thing: tests of small ones run again with every limit low."""

from __future__ import annotations

import importlib
from collections.abc import Callable

import pytest

from tests.core.arrays import test_kernels
from tests.core.steps import (
    test_aggregate,
    test_clean,
    test_merge,
    test_merge_nearest,
    test_stack,
    test_to_long,
    test_turning,
)
from tests.files import test_formats

# From so many rows, cells or pairs on, another way is taken.
LIMITS = {
    "core.arrays.codes": {"ROOMY": -1, "SAMPLE": 1},
    "core.arrays.layout": {"MOST_GAPS": 0},
    "core.arrays.ordinals": {"ROOMY": -1, "SAMPLE": 1, "BLOCK": 2},
    "core.arrays.statistics": {"SHORT": 10**6, "SAMPLE": 1},
    "core.arrays.text_bytes": {"BLOCK": 2},
    "core.arrays.shaped_texts": {"BLOCK": 2},
    "core.rows.occurrences": {"SAMPLE": 1, "FIRST_ROWS": 1},
    "core.steps.merge.likely_partners": {"MOST_PAIRS": 0},
    "core.steps.merge.pairing": {"MOST_COMPARED": 0},
    "core.table.column": {"LARGE": 0, "FEW_REASONS": 0},
    "core.table.pool": {"LARGE": 1, "SAMPLE": 1},
    "core.table.table": {"LARGE": 0},
    "core.text.chunks": {"FEW_ROWS": 0},
    "core.text.reading": {"SAMPLE": 4},
    "files.arrow_columns": {"FEW_ROWS": 0},
    "files.arrow_form": {"FEW_RUNS": 0, "ROWS_FOR_A_RUN": 10**6},
    "files.delimited": {"FEW_ROWS": 0},
    "files.json_lines": {"PART": 2},
    "files.parquet": {"PART": 2, "LARGE": 0},
    "core.arrays.arrangement": {"BLOCK": 2},
    "files.byte_stats": {"BLOCK": 3, "SHARE": 8},
    "files.text_of_cells": {"SAMPLE": 1},
    "files.text_writer": {"ROWS_IN_A_PART": 2},
}


@pytest.fixture
def low_limits(monkeypatch: pytest.MonkeyPatch) -> None:
    for module, limits in LIMITS.items():
        for name, limit in limits.items():
            monkeypatch.setattr(importlib.import_module(f"lomrix.{module}"), name, limit)


def with_kinds() -> None:
    for suffix in (".csv", ".parquet", ".arrow", ".jsonl"):
        test_formats.test_a_table_comes_back_with_its_types_reasons_and_labels(suffix)


def cases_of_statistics() -> None:
    test_aggregate.test_statistics_by_hand()
    test_aggregate.test_groups_are_in_the_order_of_their_values()
    test_aggregate.test_attached_statistics_are_beside_every_row()


@pytest.mark.parametrize(
    "test",
    [
        test_kernels.test_ids_of_one_shape_are_equal_where_their_numbers_are,
        test_kernels.test_texts_that_differ_from_the_one_above,
        test_aggregate.test_kernels_agree_with_the_obvious_way,
        cases_of_statistics,
        test_clean.test_a_tally_counts_every_cell_once,
        test_clean.test_profile_finds_keys_and_families,
        test_merge.test_agrees_with_the_slow_version,
        test_merge.test_overlap_rules_agree_with_the_obvious_way,
        test_merge.test_reasons_follow_and_unmatched_cells_report_so,
        test_merge_nearest.test_nearest_agrees_with_the_slow_version,
        test_stack.test_agrees_with_the_obvious_way,
        test_to_long.test_every_measured_value_comes_out_once,
        test_turning.test_what_was_made_wide_comes_back_long,
        test_turning.test_what_was_made_long_comes_back_wide,
        with_kinds,
    ],
    ids=lambda test: test.__name__,
)
@pytest.mark.usefixtures("low_limits")
def test_with_low_limits(test: Callable[[], None]) -> None:
    test()
