"""Kernels on plain arrays: key codes, matching, groups, statistics, layouts."""
