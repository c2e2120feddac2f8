"""Write the documentation page of all checks: `python -m tidy_crate.cli.check_docs > docs/checks.md`."""

from __future__ import annotations

from tidy_crate.cli.check_view import GROUPS, TITLES, asides
from tidy_crate.core.check.catalogue import catalogue, in_groups

HEAD = """\
# Checks

`tidy-crate check` has {count} checks. Errors block. Warnings can be waived with a reason. Notes inform.
A project can give any of them another severity (`[severity]` in `tidy-crate.toml`), and other limits. `check --explain
CODE` shows the same at a terminal. This page is written by `python -m tidy_crate.cli.check_docs`.
"""


def page() -> str:
    """Return the whole page."""
    parts = [HEAD.format(count=len(catalogue()))]
    for need, checks in in_groups().items():
        parts += [
            f"\n## {GROUPS.get(need, need)}\n",
            "| check | severity | what happens if it is ignored | what to do | |",
            "|---|---|---|---|---|",
        ]
        parts += [
            f"| `{one.code}` | {one.severity.value} | {one.why} | {TITLES[one.next]} | {asides(one)} |"
            for one in checks
        ]
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    import sys

    sys.stdout.write(page())
