"""Lantern Quay, the demo scene, and the story told with it."""
