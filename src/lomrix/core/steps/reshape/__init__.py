"""Reshape: between one row per case and one row per case and occasion."""
