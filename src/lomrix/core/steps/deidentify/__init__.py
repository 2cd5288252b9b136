"""Deidentify: remove names, replace the id, shift dates, coarsen ages, and say what may still identify."""
