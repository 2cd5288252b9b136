"""DDI-Codebook 2.5: the social sciences' open standard for a codebook, as XML.

References
----------
Data Documentation Initiative Alliance, DDI-Codebook 2.5 (2014): the elements stand in the order of its schema.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from xml.etree.ElementTree import Element, SubElement, indent, register_namespace, tostring

import lomrix

NAMESPACE = "ddi:codebook:2_5"
# Signs that XML 1.0 cannot hold.
NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
STATISTICS = (("mean", "mean"), ("median", "medn"), ("minimum", "min"), ("maximum", "max"), ("sd", "stdev"))
# How many signs the numbers of statistics have.
DIGITS = "%.10g"
NUMERIC = ("integer", "number")


def codebook(facts: Mapping[str, Any], title: str) -> bytes:
    """The codebook of a delivery.

    Parameters
    ----------
    facts
        As `lomrix.files.companions.facts` gives them.
    title
        Title of the study or the table.

    Returns
    -------
    XML in UTF-8.
    """
    register_namespace("", NAMESPACE)
    book = Element(tag("codeBook"), {"version": "2.5"})
    document = within(book, "docDscr", "citation")
    put(within(document, "titlStmt"), "titl", f"Codebook of {title}")
    put(within(document, "prodStmt"), "software", "Lomrix", {"version": lomrix.__version__})
    study = within(book, "stdyDscr", "citation")
    put(within(study, "titlStmt"), "titl", title)
    file = SubElement(book, tag("fileDscr"), {"ID": "F1"})
    text = SubElement(file, tag("fileTxt"))
    put(text, "fileName", facts["file"])
    size = SubElement(text, tag("dimensns"))
    put(size, "caseQnty", str(facts["rows"]))
    put(size, "varQnty", str(facts["columns"]))
    if facts["lines_per_row"] > 1:
        put(size, "recPrCas", str(facts["lines_per_row"]))
    data = SubElement(book, tag("dataDscr"))
    for variable in facts["variables"]:
        add_variable(data, variable, facts)
    indent(book, " ")
    whole: bytes = tostring(book, encoding="utf-8", xml_declaration=True)
    return whole + b"\n"


def tag(name: str) -> str:
    """An element's name in the standard's namespace."""
    return f"{{{NAMESPACE}}}{name}"


def within(parent: Element, *names: str) -> Element:
    """A new element inside another, several levels down."""
    for name in names:
        parent = SubElement(parent, tag(name))
    return parent


def put(parent: Element, name: str, text: object, attributes: Mapping[str, str] | None = None) -> Element:
    """A new element with a text in it."""
    made = SubElement(parent, tag(name), {key: clean(value) for key, value in (attributes or {}).items()})
    made.text = clean(str(text))
    return made


def clean(text: str) -> str:
    """A text without the signs that XML cannot hold."""
    return NO_XML.sub("\ufffd", text)


def add_variable(data: Element, variable: Mapping[str, Any], facts: Mapping[str, Any]) -> None:
    """One variable: where it stands, its label, limits, statistics, categories, and how it is written."""
    has_codes = any(one["label"] for one in variable["codes"])
    is_number = variable["type"] in NUMERIC
    told = {"ID": f"V{variable['number']}", "name": clean(variable["name"]), "files": "F1"}
    if variable["decimals"] is not None and is_number:
        told["dcml"] = str(variable["decimals"])
    told["intrvl"] = "contin" if variable["type"] == "number" or (is_number and not has_codes) else "discrete"
    one = SubElement(data, tag("var"), told)
    if variable["start"] is not None:
        place = {"StartPos": "start", "EndPos": "end", "width": "width"}
        attributes = {name: str(variable[key]) for name, key in place.items()}
        SubElement(one, tag("location"), {**attributes, "RecSegNo": str(variable["line"]), "fileid": "F1"})
    put(one, "labl", variable["label"] or variable["name_before"])
    if variable["minimum"] is not None:
        limits = {"min": str(variable["minimum"]), "max": str(variable["maximum"])}
        SubElement(within(one, "valrng"), tag("range"), limits)
    codes = [missing for missing in variable["missing"] if missing["code"]]
    if codes:
        invalid = within(one, "invalrng")
        for code in dict.fromkeys(missing["code"] for missing in codes):
            SubElement(invalid, tag("item"), {"VALUE": code})
    add_statistics(one, variable)
    if variable["description"]:
        put(one, "txt", variable["description"])
    add_categories(one, variable)
    if variable["how"]:
        put(one, "codInstr", variable["how"])
    kind = "numeric" if variable["written_type"] in NUMERIC else "character"
    category = {"date": "date", "datetime": "time", "boolean": "boolean"}.get(variable["written_type"], "")
    form = SubElement(
        one, tag("varFormat"), {"type": kind, **({"category": category} if category in ("date", "time") else {})}
    )
    if variable["unit"]:
        form.text = clean(f"in {variable['unit']}")


def add_statistics(one: Element, variable: Mapping[str, Any]) -> None:
    """Cells with a value and without one, and the moments of numbers."""
    put(one, "sumStat", variable["present"], {"type": "vald"})
    put(one, "sumStat", variable["missing_cells"], {"type": "invd"})
    for key, type_ in STATISTICS:
        value = variable[key]
        if isinstance(value, int | float) and variable["mean"] is not None:
            put(one, "sumStat", DIGITS % value if isinstance(value, float) else value, {"type": type_})


def add_categories(one: Element, variable: Mapping[str, Any]) -> None:
    """Values with their labels and counts, those given to texts among them, and the reasons of missing cells."""
    code_of = {given["text"]: str(given["code"]) for given in variable["given_codes"]}
    for code in variable["codes"]:
        category = SubElement(one, tag("catgry"))
        put(category, "catValu", code_of.get(code["value"], code["value"]))
        label = code["label"] or (code["value"] if code_of else "")
        if label:
            put(category, "labl", label)
        put(category, "catStat", code["cells"], {"type": "freq"})
    for missing in variable["missing"]:
        category = SubElement(one, tag("catgry"), {"missing": "Y"})
        if missing["code"]:
            put(category, "catValu", missing["code"])
        put(category, "labl", missing["reason"])
        put(category, "catStat", missing["cells"], {"type": "freq"})
