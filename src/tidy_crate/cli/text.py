"""Text from outside: made fit to be shown, and taken apart."""

from __future__ import annotations

from collections.abc import Iterable


def clean(text: object) -> str:
    """Text from outside, fit for a terminal: control characters are shown, not obeyed."""
    return "".join(
        c if c.isprintable() else f"\\x{ord(c):02x}" for c in str(text).encode("utf-8", "backslashreplace").decode()
    )


def named_values(texts: Iterable[str] | None, option: str, *, empty: bool = False) -> dict[str, str]:
    """Return what a repeatable option says, as NAME=VALUE, by name. empty: a value may be empty.

    Raises WrongUsage.
    """
    from tidy_crate.core.errors import WrongUsage

    found = {}
    for text in texts or ():
        name, equals, value = text.partition("=")
        if not (name and equals and (value or empty)):
            raise WrongUsage(f"{option} takes a name and a value", repr(text[:60]), f"write {option} NAME=VALUE")
        found[name] = value
    return found
