"""Companions and codebooks as outputs: by the extension of their file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.prepared import Prepared
from lomrix.files.companions.facts import facts_of
from lomrix.files.companions.plain import companion
from lomrix.files.companions.template import filled_in, own_template, template_of
from lomrix.files.database.reference import is_database, shown
from lomrix.files.delivered import TEMPLATE, delimiter_for, places_in
from lomrix.files.staging import FileSink

EXTENSIONS = {"companion": (".txt", ".md", TEMPLATE), "codebook": (".xml", ".md")}


@dataclass
class DescribingSink(FileSink):
    """A text that describes a delivery.

    Parameters
    ----------
    kind
        `companion` or `codebook`.
    template
        A team's own template; None where the file's extension decides.
    data
        What is described, as it was named; empty where it is not written.
    """

    kind: str = "companion"
    template: Path | None = None
    data: str = ""
    text: str = field(default="", repr=False)

    @property
    def data_path(self) -> Path:
        """The file that is described; of a table of a database its name."""
        return Path(shown(self.data).rpartition("#")[2]) if is_database(self.data) else Path(self.data)

    def check(self) -> None:
        """Stop where the template cannot be read, too."""
        if self.template is not None:
            self.text = template_of(self.template)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write it."""
        assert isinstance(content, Prepared)
        suffix = self.path.suffix.lower()
        delimiter, places = delimiter_for(self.data_path, self.delivery), places_in(content, self.delivery)
        if self.kind == "companion" and suffix == ".txt" and self.template is None:
            has_header = self.delivery.form in (None, "headed")
            text = companion(
                content, self.data_path, delimiter, has_header=has_header, form=self.delivery.text, places=places
            )
            part.write_text(text, encoding="utf-8")
            return {}
        facts = facts_of(content, self.data_path.name, self.delivery, delimiter, places)
        if suffix == ".xml" and self.template is None:
            from lomrix.files.companions.ddi import codebook

            part.write_bytes(codebook(facts, content.made.name))
        elif self.template is not None:
            part.write_text(filled_in(self.text, self.template.name, facts), encoding="utf-8")
        else:
            name = "columns.md.j2" if self.kind == "companion" else "codebook.md.j2"
            part.write_text(filled_in(own_template(name), name, facts), encoding="utf-8")
        return {}


def text_sink(kind: str, reference: str, data: str, delivery: Delivery, overwrite: bool) -> DescribingSink:
    """The sink of a text that describes a delivery.

    Parameters
    ----------
    kind
        `companion` or `codebook`.
    reference
        The file; for a companion also a template, whose result stands beside the data: `my.txt.j2` beside `model.dat`
        makes `model.my.txt`.
    data
        What is described, as it was named.
    delivery, overwrite
        How the data are written, and whether files may be replaced.

    Raises
    ------
    UsageError
        Where it has an extension that no such text has.
    """
    path = Path(reference)
    allowed = EXTENSIONS[kind]
    if path.suffix.lower() not in allowed:
        raise UsageError(
            f"A {kind} cannot be written to {path.name}.", todo=f"Its extension is one of {' '.join(allowed)}."
        )
    if path.suffix.lower() != TEMPLATE:
        return DescribingSink(path, overwrite, False, delivery, kind=kind, data=data)
    beside = Path(shown(data).rpartition("#")[2]) if is_database(data) else Path(data)
    made = beside.with_name(f"{beside.stem}.{path.stem}") if data else Path(path.stem)
    return DescribingSink(made, overwrite, False, delivery, kind=kind, template=path, data=data)
