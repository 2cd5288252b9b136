"""Reading and writing: one module per open format."""
