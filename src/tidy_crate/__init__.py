"""Tidy Crate gets a scene onto a render farm and every frame back."""

__version__ = "1.0.0"
