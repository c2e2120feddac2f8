"""A scene with all that belongs to it: its project, decisions and caches."""
