"""DDI-Codebook 2.5: the social sciences' open standard for codebooks, as XML.

References
----------
Data Documentation Initiative Alliance, DDI-Codebook 2.5 (2014): elements are in the order of its schema.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from xml.etree.ElementTree import Element, SubElement, indent, register_namespace, tostring

import lomrix

NAMESPACE = "ddi:codebook:2_5"
# Characters that XML 1.0 cannot hold.
INVALID_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
STATISTICS = (("mean", "mean"), ("median", "medn"), ("minimum", "min"), ("maximum", "max"), ("sd", "stdev"))
# Format of statistics.
DIGITS = "%.10g"
NUMERIC = ("integer", "number")


def make_codebook(facts: Mapping[str, Any], title: str) -> bytes:
    """Return the codebook of a delivery as UTF-8 XML, from `collect_facts` and a title."""
    register_namespace("", NAMESPACE)
    book = Element(qualify("codeBook"), {"version": "2.5"})
    document = add_elements(book, "docDscr", "citation")
    add_text(add_elements(document, "titlStmt"), "titl", f"Codebook of {title}")
    add_text(add_elements(document, "prodStmt"), "software", "Lomrix", {"version": lomrix.__version__})
    study = add_elements(book, "stdyDscr", "citation")
    add_text(add_elements(study, "titlStmt"), "titl", title)
    file = SubElement(book, qualify("fileDscr"), {"ID": "F1"})
    text = SubElement(file, qualify("fileTxt"))
    add_text(text, "fileName", facts["file"])
    size = SubElement(text, qualify("dimensns"))
    add_text(size, "caseQnty", str(facts["rows"]))
    add_text(size, "varQnty", str(facts["columns"]))
    if facts["lines_per_row"] > 1:
        add_text(size, "recPrCas", str(facts["lines_per_row"]))
    data = SubElement(book, qualify("dataDscr"))
    for variable in facts["variables"]:
        add_variable(data, variable, facts)
    indent(book, " ")
    xml: bytes = tostring(book, encoding="utf-8", xml_declaration=True)
    return xml + b"\n"


def qualify(name: str) -> str:
    """Return an element's name in the standard's namespace."""
    return f"{{{NAMESPACE}}}{name}"


def add_elements(parent: Element, *names: str) -> Element:
    """Add nested elements, and return the innermost."""
    for name in names:
        parent = SubElement(parent, qualify(name))
    return parent


def add_text(parent: Element, name: str, text: object, attributes: Mapping[str, str] | None = None) -> Element:
    """Add an element with a text."""
    element = SubElement(parent, qualify(name), {key: clean_text(value) for key, value in (attributes or {}).items()})
    element.text = clean_text(str(text))
    return element


def clean_text(text: str) -> str:
    """Replace the characters that XML cannot hold."""
    return INVALID_XML.sub("\ufffd", text)


def add_variable(data: Element, variable: Mapping[str, Any], facts: Mapping[str, Any]) -> None:
    """Add one variable: position, label, limits, statistics, categories, and how it is written."""
    has_codes = any(element["label"] for element in variable["codes"])
    is_number = variable["type"] in NUMERIC
    attributes_ = {"ID": f"V{variable['number']}", "name": clean_text(variable["name"]), "files": "F1"}
    if variable["decimals"] is not None and is_number:
        attributes_["dcml"] = str(variable["decimals"])
    attributes_["intrvl"] = "contin" if variable["type"] == "number" or (is_number and not has_codes) else "discrete"
    element = SubElement(data, qualify("var"), attributes_)
    if variable["start"] is not None:
        location_keys = {"StartPos": "start", "EndPos": "end", "width": "width"}
        attributes = {name: str(variable[key]) for name, key in location_keys.items()}
        SubElement(element, qualify("location"), {**attributes, "RecSegNo": str(variable["line"]), "fileid": "F1"})
    add_text(element, "labl", variable["label"] or variable["name_before"])
    if variable["minimum"] is not None:
        limits = {"min": str(variable["minimum"]), "max": str(variable["maximum"])}
        SubElement(add_elements(element, "valrng"), qualify("range"), limits)
    codes = [missing for missing in variable["missing"] if missing["code"]]
    if codes:
        invalid = add_elements(element, "invalrng")
        for code in dict.fromkeys(missing["code"] for missing in codes):
            SubElement(invalid, qualify("item"), {"VALUE": code})
    add_statistics(element, variable)
    if variable["description"]:
        add_text(element, "txt", variable["description"])
    add_categories(element, variable)
    if variable["how"]:
        add_text(element, "codInstr", variable["how"])
    kind = "numeric" if variable["written_type"] in NUMERIC else "character"
    category = {"date": "date", "datetime": "time", "boolean": "boolean"}.get(variable["written_type"], "")
    form = SubElement(
        element,
        qualify("varFormat"),
        {"type": kind, **({"category": category} if category in ("date", "time") else {})},
    )
    if variable["unit"]:
        form.text = clean_text(f"in {variable['unit']}")


def add_statistics(element: Element, variable: Mapping[str, Any]) -> None:
    """Add the numbers of present and missing cells, and statistics of numbers."""
    add_text(element, "sumStat", variable["present"], {"type": "vald"})
    add_text(element, "sumStat", variable["missing_cells"], {"type": "invd"})
    for key, type_ in STATISTICS:
        value = variable[key]
        if isinstance(value, int | float) and variable["mean"] is not None:
            add_text(element, "sumStat", DIGITS % value if isinstance(value, float) else value, {"type": type_})


def add_categories(element: Element, variable: Mapping[str, Any]) -> None:
    """Add values with labels and counts, including codes given to texts, and the reasons of missing cells."""
    code_of = {given["text"]: str(given["code"]) for given in variable["given_codes"]}
    for code in variable["codes"]:
        category = SubElement(element, qualify("catgry"))
        add_text(category, "catValu", code_of.get(code["value"], code["value"]))
        label = code["label"] or (code["value"] if code_of else "")
        if label:
            add_text(category, "labl", label)
        add_text(category, "catStat", code["cells"], {"type": "freq"})
    for missing in variable["missing"]:
        category = SubElement(element, qualify("catgry"), {"missing": "Y"})
        if missing["code"]:
            add_text(category, "catValu", missing["code"])
        add_text(category, "labl", missing["reason"])
        add_text(category, "catStat", missing["cells"], {"type": "freq"})
