"""Subset: choose columns and rows, and count what was left out."""
