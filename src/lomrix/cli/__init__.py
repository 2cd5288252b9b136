"""The command line: commands made from the steps, and how they are told."""
