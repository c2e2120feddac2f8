"""Tidy Crate gets a scene onto a render farm and every frame back."""

__version__ = "0.1.0"
