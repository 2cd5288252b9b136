"""Report: what a page for people tells of a table."""
