"""Where a scene stands on its way to delivered frames, and what carries it on. Nothing is stored: all is worked out."""
