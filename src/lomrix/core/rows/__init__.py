"""Which rows belong together: keys, groups, cases, the grid of cases and occasions."""
