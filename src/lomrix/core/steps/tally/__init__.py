"""Tally: labelled counts and percentages of one variable, or of two crossed."""
