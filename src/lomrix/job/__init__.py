"""Tasks: a step with what it reads and writes, the running of it, and the history of what came out."""
