"""Aggregate: statistics of cases at group level."""
