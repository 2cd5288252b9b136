"""`python -m lomrix`."""

from lomrix.cli.main import main

main()
