"""Stack: put files under each other, column by name."""
