"""Checks: what would go wrong on a farm, said before money is spent. One small function per finding."""
