"""Dictionary: what a table itself shows of its variables, and lists of codes that do not fit."""
