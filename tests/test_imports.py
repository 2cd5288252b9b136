"""The house: no two modules import each other in a circle, and settings load no arrays."""

from __future__ import annotations

import subprocess
import sys
from graphlib import TopologicalSorter

import grimp


def test_no_circle_of_imports() -> None:
    # Imports inside functions and for type checking count too.
    graph = grimp.build_graph("lomrix", exclude_type_checking_imports=False)
    modules = {name: graph.find_modules_directly_imported_by(name) for name in graph.modules}
    order = list(TopologicalSorter(modules).static_order())  # raises a CycleError that names the circle
    assert order.index("lomrix.core.errors") < order.index("lomrix.cli.main")


def test_settings_of_steps_load_no_arrays() -> None:
    code = (
        "import sys; from lomrix.core.steps.registry import ENTRIES; [entry.load() for entry in ENTRIES];"
        "sys.exit(bool({'numpy', 'pyarrow', 'scipy'} & set(sys.modules)))"
    )
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_the_program_itself_loads_little() -> None:
    code = "import sys, lomrix.cli.main; sys.exit(bool({'numpy', 'pyarrow', 'pydantic'} & set(sys.modules)))"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0
