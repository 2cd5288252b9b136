"""Recode: whole values to other values, to codes, to labels, or to a missing reason."""
