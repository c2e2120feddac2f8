"""Farms without an interface for programs: a place that takes an archive and a job sheet, and gives frames back."""
