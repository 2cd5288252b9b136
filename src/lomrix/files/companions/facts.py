"""A delivery as plain values: what templates, Markdown and codebooks are made from.

The keys are a contract with the templates that teams write; `docs/formats.md` lists them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from lomrix.core.rows.described import DescribedVariable
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.table.numbers import is_number, number_of
from lomrix.files.companions.plain import DELIMITER_WORDS
from lomrix.files.lines import Place


def facts_of(
    ready: Prepared, file: str, delivery: Delivery, delimiter: str = "", places: Sequence[Place] = ()
) -> dict[str, Any]:
    """All that is known of a delivery.

    Parameters
    ----------
    ready
        What was written, and how it has to be understood.
    file
        Name of the data file.
    delivery, delimiter
        How it is written; no delimiter where there is none.
    places
        Where columns of a fixed width stand.
    """
    text, place_of = delivery.text, {place.name: place for place in places}
    variables = [
        variable_facts(variable, number, ready, place_of.get(variable.name))
        for number, variable in enumerate(ready.variables, start=1)
    ]
    return {
        "file": file,
        "form": delivery.form or "",
        "rows": len(ready.made),
        "columns": len(ready.made.names),
        "names": ready.made.names,
        "delimiter": delimiter,
        "delimiter_word": DELIMITER_WORDS.get(delimiter, delimiter),
        "decimal": text.decimal,
        "encoding": text.encoding,
        "date_form": text.date_form,
        "lines_per_row": max((place.line for place in places), default=1),
        "missing_code": ready.missing.everywhere,
        "variables": variables,
    }


def variable_facts(variable: DescribedVariable, number: int, ready: Prepared, place: Place | None) -> dict[str, Any]:
    """All that is known of one variable."""
    name, entry = variable.name, variable.entry
    codes = {reason: code for code, reason in ready.codes.get(name, {}).items()}
    recoding = ready.recodings.get(name)
    return {
        "name": name,
        "number": number,
        "name_before": ready.old_names.get(name, name),
        "label": entry.label,
        "description": entry.description,
        "unit": entry.unit,
        "level": entry.level or "",
        "type": variable.type,
        "written_type": ready.made[name].type,
        "line": place.line if place else 1,
        "start": place.start if place else None,
        "end": place.end if place else None,
        "width": place.width if place else None,
        "decimals": place.decimals if place else None,
        "codes": [{"value": one.value, "label": one.label, "cells": one.cells} for one in variable.categories],
        "missing": [
            {"code": codes.get(reason, codes.get("missing", "")), "reason": reason, "cells": count}
            for reason, count in variable.missing.items()
        ],
        "how": recoding.how if recoding else "",
        "given_codes": given_codes(recoding.texts.to_pylist() if recoding else (), ready.labels.labels_of(name)),
        "present": variable.present,
        "missing_cells": sum(variable.missing.values()),
        "minimum": number_or_text(variable.smallest),
        "maximum": number_or_text(variable.largest),
        "mean": variable.mean,
        "sd": variable.deviation,
        "median": variable.median,
    }


def given_codes(texts: Sequence[str], labels: Mapping[str, str]) -> list[dict[str, object]]:
    """The codes 1, 2, 3 … that texts were given."""
    return [{"code": code, "text": text, "label": labels.get(text, "")} for code, text in enumerate(texts, start=1)]


def number_or_text(text: str) -> object:
    """A number where a text is one; None where it is empty."""
    return (number_of(text) if is_number(text) else text) if text else None
