"""Patterns that people write into project files, matched in time that grows with the text and no faster."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

import re2

from tidy_crate.core.errors import UnreadableInput

_LONGEST = 2000


def pattern(text: str, what: str, groups: Iterable[str] = ()) -> Any:
    """Compile a regular expression. what: its name in errors. groups: names that it must have as groups.

    The syntax is that of RE2: no look-around and no back-references. Raises UnreadableInput.
    """
    options = re2.Options()
    options.log_errors = False
    if len(text) > _LONGEST:
        raise UnreadableInput(f"{what} is too long for a pattern", f"{text[:60]}...", f"at most {_LONGEST} characters")
    try:
        found = re2.compile(text, options=options)
    except re2.error as error:
        reason = error.args[0] if error.args else error
        reason = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
        raise UnreadableInput(f"{what} is not a valid regular expression ({reason})", text) from error
    lacking = [name for name in groups if name not in found.groupindex]
    if lacking:
        raise UnreadableInput(f"{what} has no group `{lacking[0]}`", text, f"write (?P<{lacking[0]}>...) around it")
    return found


def in_words(what: str, text: str, groups: Iterable[str] = ()) -> None:
    """Make sure that a text is a pattern, where a whole file is read. Raises ValueError, in the words of `pattern`."""
    try:
        pattern(text, what, groups)
    except UnreadableInput as error:
        raise ValueError(f"{error.what}: {error.remedy}" if error.remedy else error.what) from error


# one letter in UTF-8, whatever it is; also of a name that no encoding can write
_LETTER = rb"(?:[\x00-\x7f]|[\xc0-\xff][\x80-\xbf]*|[\x80-\xbf])"


def raw(text: str) -> bytes:
    """Return a text as bytes, names that are no valid text included."""
    return text.encode("utf-8", "surrogatepass")


def compiled(line: bytes) -> Any:
    """Compile a pattern over `raw` bytes. Its letters are ASCII: \\d is a digit from 0 to 9."""
    options = re2.Options()
    options.log_errors = False
    options.encoding = re2.Options.Encoding.LATIN1
    options.dot_nl = True
    return re2.compile(line, options=options)


def literal(text: str) -> bytes:
    """Return a pattern that a text alone matches."""
    return b"".join(bytes([one]) if bytes([one]).isalnum() or one == 0x5F else b"\\x%02x" % one for one in raw(text))


@lru_cache(1 << 12)
def _wildcard(text: str) -> Any:
    parts = {"*": b".*", "?": _LETTER}
    return compiled(b"".join(parts.get(letter) or literal(letter) for letter in text))


def matches(text: str, wildcard: str) -> bool:
    """Return whether a text matches all of another one, in which `*` stands for any letters and `?` for one.

    No path is so long that a longer one than the longest pattern could match it.
    """
    while "**" in wildcard:
        wildcard = wildcard.replace("**", "*")
    return len(wildcard) <= _LONGEST and _wildcard(wildcard).fullmatch(raw(text)) is not None
