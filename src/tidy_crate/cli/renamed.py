"""Names that options had before. They are accepted until the next major version, and no help shows them."""

from __future__ import annotations

from collections.abc import Sequence

# by command, the old name and what it is called now: one name has one meaning in all commands
OLD: dict[str, dict[str, str]] = {
    "collect": {"--output": "--out"},
    "farm new": {"--output": "--out"},
    "survey": {"--memory": "--memory-need"},
    "probe": {"--frames": "--count", "--scale": "--size", "--samples": "--samples-at"},
    "estimate": {"--no-reclaimable": "--not-reclaimable"},
    "track": {"--frames": "--each-frame"},
    "log": {"--share": "--sample-share"},
    "review": {"--explain": "--measures"},
    "look": {"--passes": "--passes-of", "--from": "--against"},
}


def renamed(words: Sequence[str]) -> list[str]:
    """Return a command line, its command first, with the names that its options have now."""
    names = OLD.get(words[0]) if words else None
    if names is None and len(words) > 1:
        names = OLD.get(f"{words[0]} {words[1]}")
    if not names:
        return list(words)
    found, options = [], True
    for word in words:
        options = options and word != "--"
        name, equals, value = word.partition("=")
        found.append(f"{names[name]}{equals}{value}" if options and name in names else word)
    return found
