"""Coverage: who was seen when, and what was measured then."""
