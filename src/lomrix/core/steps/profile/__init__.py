"""Profile: what a person wants to see first of a table."""
