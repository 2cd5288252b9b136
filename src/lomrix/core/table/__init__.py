"""Columns, tables, the dictionary and the words that choose columns."""
