"""Texts that describe a delivery: names in order, codebooks, and what a team's own templates make of them."""
