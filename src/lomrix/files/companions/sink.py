"""Companions and codebooks as outputs, by the extension of their file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.prepared import Prepared
from lomrix.files.companions.facts import collect_facts
from lomrix.files.companions.plain import make_companion
from lomrix.files.companions.template import load_template, read_template, render
from lomrix.files.database.reference import hide_password, is_database
from lomrix.files.delivered import TEMPLATE, choose_delimiter, find_positions
from lomrix.files.staging import FileSink

EXTENSIONS = {"companion": (".txt", ".md", TEMPLATE), "codebook": (".xml", ".md")}


@dataclass
class DescribingSink(FileSink):
    """A text that describes a delivery."""

    kind: str = "companion"  # `make_companion` or `codebook`
    template: Path | None = None  # A team's own template; None where the file's extension decides
    data: str = ""  # what is described, as it was named; empty where it is not written
    text: str = field(default="", repr=False)

    @property
    def data_path(self) -> Path:
        """The file that is described; of a database table its name."""
        return Path(hide_password(self.data).rpartition("#")[2]) if is_database(self.data) else Path(self.data)

    def check(self) -> None:
        """Also stop if the template cannot be read."""
        if self.template is not None:
            self.text = read_template(self.template)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write it."""
        assert isinstance(content, Prepared)
        suffix = self.path.suffix.lower()
        delimiter, positions = choose_delimiter(self.data_path, self.delivery), find_positions(content, self.delivery)
        if self.kind == "companion" and suffix == ".txt" and self.template is None:
            has_header = self.delivery.form in (None, "headed")
            text = make_companion(
                content, self.data_path, delimiter, has_header=has_header, form=self.delivery.text, positions=positions
            )
            part.write_text(text, encoding="utf-8")
            return {}
        facts = collect_facts(content, self.data_path.name, self.delivery, delimiter, positions)
        if suffix == ".xml" and self.template is None:
            from lomrix.files.companions.ddi import make_codebook

            part.write_bytes(make_codebook(facts, content.made.name))
        elif self.template is not None:
            part.write_text(render(self.text, self.template.name, facts), encoding="utf-8")
        else:
            name = "columns.md.j2" if self.kind == "companion" else "codebook.md.j2"
            part.write_text(render(load_template(name), name, facts), encoding="utf-8")
        return {}


def make_sink(kind: str, reference: str, data: str, delivery: Delivery, overwrite: bool) -> DescribingSink:
    """Make the sink of a companion or codebook.

    For a companion the reference may be a template, whose result is written beside the data: `my.txt.j2` beside
    `model.dat` gives `model.my.txt`.

    Raises UsageError if it has another extension than such a text.
    """
    path = Path(reference)
    allowed = EXTENSIONS[kind]
    if path.suffix.lower() not in allowed:
        raise UsageError(
            f"A {kind} cannot be written to {path.name}.", todo=f"Its extension is one of {' '.join(allowed)}."
        )
    if path.suffix.lower() != TEMPLATE:
        return DescribingSink(path, overwrite, False, delivery, kind=kind, data=data)
    data_path = Path(hide_password(data).rpartition("#")[2]) if is_database(data) else Path(data)
    result_path = data_path.with_name(f"{data_path.stem}.{path.stem}") if data else Path(path.stem)
    return DescribingSink(result_path, overwrite, False, delivery, kind=kind, template=path, data=data)
