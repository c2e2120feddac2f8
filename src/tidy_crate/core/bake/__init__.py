"""Baking: finding what depends on the frame before, solving it once, and proving that it worked."""
