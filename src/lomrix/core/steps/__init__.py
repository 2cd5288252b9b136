"""One module per step: its settings, its account, what happens to labels and reasons."""
