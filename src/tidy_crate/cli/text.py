"""Text from outside, made fit to be shown."""

from __future__ import annotations


def clean(text: object) -> str:
    """Text from outside, fit for a terminal: control characters are shown, not obeyed."""
    return "".join(
        c if c.isprintable() else f"\\x{ord(c):02x}" for c in str(text).encode("utf-8", "backslashreplace").decode()
    )
