"""Plans: tasks in a file, run again whenever something changed; and the way from a history to a plan."""
