"""Additions of one studio to tidy-crate."""
