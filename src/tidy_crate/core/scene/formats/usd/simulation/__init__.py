"""Simulations in a USD scene: finding them, solving them, caching them."""
