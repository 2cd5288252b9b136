"""Correct: apply a ledger, cell by cell, only where the old value is what the table holds."""
