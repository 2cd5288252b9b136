"""Where a figure is written to, checked before any work."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.files.target import Target

FIGURES = (".png", ".svg", ".pdf")


def checked_figure(figure: str, others: Sequence[str], *, overwrite: bool) -> Target | None:
    """The place of a figure; None where none was asked for.

    Parameters
    ----------
    figure
        The path as typed.
    others
        Files that it must not replace: the sources and the output.
    overwrite
        Whether a figure that is there may be replaced.

    Raises
    ------
    UsageError
        Where its extension is none of a figure.
    FileError
        Where it cannot be written there.
    """
    if not figure:
        return None
    if Path(figure).suffix.lower() not in FIGURES:
        raise UsageError(
            f"A figure cannot be written to {figure}.", todo=f"Its extension is one of {' '.join(FIGURES)}."
        )
    return Target.checked(figure, [other for other in others if other], overwrite=overwrite)
