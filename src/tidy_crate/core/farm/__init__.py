"""Farms: cards that describe them, and links that reach them."""
