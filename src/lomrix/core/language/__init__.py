"""The expression language: the expression subset of Python, parsed and never executed as Python."""
