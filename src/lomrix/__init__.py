"""Lomrix: bring in, merge, reshape, aggregate and export the data of a longitudinal study."""

__version__ = "0.1.0"
