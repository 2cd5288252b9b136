"""Lomrix: bring in, merge, reshape, aggregate and export the data of a longitudinal study."""

__version__ = "0.1.0"

# The Python interface, loaded on first use: the command line starts faster without arrays.
_MODULES = {
    "lomrix.api": (
        "apply", "apply_to_files", "export", "format_account", "make_step", "make_table", "read", "to_arrow",
        "to_numpy", "write",
    ),
    "lomrix.core.errors": ("DataError", "FileError", "LomrixError", "SettingError", "UsageError"),
    "lomrix.core.steps.account": ("Account",),
    "lomrix.core.steps.step": ("Result", "Step"),
    "lomrix.core.table.column": ("Column",),
    "lomrix.core.table.dictionary": ("Dictionary",),
    "lomrix.core.table.table": ("Table",),
    "lomrix.files.dictionary_file": ("read_dictionary",),
}  # fmt: skip
__all__ = sorted(name for names in _MODULES.values() for name in names)


def __getattr__(name: str) -> object:
    import importlib

    module = next((module for module, names in _MODULES.items() if name in names), None)
    if module is None:
        raise AttributeError(f"module 'lomrix' has no attribute {name!r}")
    return getattr(importlib.import_module(module), name)
