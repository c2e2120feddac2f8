"""The page of the documentation that lists every check: `python -m tidy_crate.cli.check_docs > docs/checks.md`."""

from __future__ import annotations

from tidy_crate.cli.check_view import GROUPS, TITLES, notes
from tidy_crate.core.check.catalogue import catalogue, in_groups
from tidy_crate.core.check.finding import Check

HEAD = """\
# Checks

What `tidy-crate check` looks for: {count} checks. Errors block; warnings can be waived with a reason; notes inform.
A project can give any of them another severity (`[severity]` in `tidy-crate.toml`), and other limits. `check --explain
CODE` says the same at a terminal. This page is written by `python -m tidy_crate.cli.check_docs`.
"""


def page() -> str:
    """The whole page."""
    parts = [HEAD.format(count=len(catalogue()))]
    for need, checks in in_groups().items():
        parts += [
            f"\n## {GROUPS.get(need, need)}\n",
            "| check | severity | what goes wrong if it is ignored |",
            "|---|---|---|",
        ]
        parts += [f"| `{one.code}` | {one.severity.value} | {one.why}{_aside(one)} |" for one in checks]
    return "\n".join(parts) + "\n"


def _aside(one: Check) -> str:
    return f" Next: {TITLES[one.next].lower()}.{notes(one)}"


if __name__ == "__main__":
    import sys

    sys.stdout.write(page())
