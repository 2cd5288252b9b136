"""Tally: labelled counts and per cents of one variable, or of two crossed."""
