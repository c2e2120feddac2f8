"""Review: every frame opened and judged."""
