"""A delivery as plain values, from which templates, Markdown and codebooks are made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from lomrix.core.rows.described import VariableSummary
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.prepared import Prepared, Recoding
from lomrix.core.table.numbers import is_number, parse_number
from lomrix.files.companions.plain import DELIMITER_WORDS
from lomrix.files.lines import ColumnPosition


def collect_facts(
    prepared: Prepared, file: str, delivery: Delivery, delimiter: str = "", positions: Sequence[ColumnPosition] = ()
) -> dict[str, Any]:
    """Collect all that is known of a delivery: the prepared table, the name of the data file, how it is written, and
    the positions of fixed-width columns.
    """
    text, position_of = delivery.text, {position.name: position for position in positions}
    variables = [
        collect_variable(variable, number, prepared, position_of.get(variable.name))
        for number, variable in enumerate(prepared.variables, start=1)
    ]
    return {
        "file": file,
        "form": delivery.form or "",
        "rows": len(prepared.made),
        "columns": len(prepared.made.names),
        "names": prepared.made.names,
        "delimiter": delimiter,
        "delimiter_word": DELIMITER_WORDS.get(delimiter, delimiter),
        "decimal": text.decimal,
        "encoding": text.encoding,
        "date_form": text.date_form,
        "lines_per_row": max((position.line for position in positions), default=1),
        "missing_code": prepared.missing.everywhere,
        "variables": variables,
    }


def collect_variable(
    variable: VariableSummary, number: int, prepared: Prepared, position: ColumnPosition | None
) -> dict[str, Any]:
    """Collect all that is known of one variable."""
    name, entry = variable.name, variable.entry
    codes = {reason: code for code, reason in prepared.codes.get(name, {}).items()}
    recoding = prepared.recodings.get(name)
    return {
        "name": name,
        "number": number,
        "name_before": prepared.old_names.get(name, name),
        "label": entry.label,
        "description": entry.full_description,
        "unit": entry.unit,
        "level": entry.level or "",
        "type": variable.type,
        "written_type": prepared.made[name].type,
        "line": position.line if position else 1,
        "start": position.start if position else None,
        "end": position.end if position else None,
        "width": position.width if position else None,
        "decimals": position.decimals if position else None,
        "codes": [
            {"value": category.value, "label": category.label, "cells": category.cells}
            for category in variable.categories
        ],
        "missing": [
            {"code": codes.get(reason, codes.get("missing", "")), "reason": reason, "cells": count}
            for reason, count in variable.missing.items()
        ],
        "how": recoding.how if recoding else "",
        "given_codes": list_given_codes(recoding, prepared.labels.labels_of(name)) if recoding else [],
        "present": variable.present,
        "missing_cells": sum(variable.missing.values()),
        "minimum": to_number_or_text(variable.minimum),
        "maximum": to_number_or_text(variable.maximum),
        "mean": variable.mean,
        "sd": variable.deviation,
        "median": variable.median,
    }


def list_given_codes(recoding: Recoding, labels: Mapping[str, str]) -> list[dict[str, object]]:
    """List the codes given to texts."""
    return [{"code": code, "text": text, "label": labels.get(text, "")} for code, text in recoding.list_codes()]


def to_number_or_text(text: str) -> object:
    """Return a number if the text is one; None if it is empty."""
    return (parse_number(text) if is_number(text) else text) if text else None
