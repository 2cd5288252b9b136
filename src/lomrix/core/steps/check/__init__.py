"""Check: hold a table against its dictionary and against itself."""
