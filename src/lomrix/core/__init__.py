"""The computation: tables, steps and accounts. Knows no file, screen or command line."""
