"""Score: items to a scale, with what tells whether they belong together."""
