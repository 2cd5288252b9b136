"""Merge: add variables to a base table by key."""
