"""Derive: new variables by expressions, and new names."""
