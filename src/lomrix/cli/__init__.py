"""The command line: commands made from the steps, and their reports."""

REPORTING = "Report"  # the heading of --json, --quiet and --help
