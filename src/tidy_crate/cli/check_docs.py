"""The page of the documentation that lists every check: `python -m tidy_crate.cli.check_docs > docs/checks.md`."""

from __future__ import annotations

from tidy_crate.cli.check_view import GROUPS, TITLES
from tidy_crate.core.check.catalogue import catalogue, in_groups
from tidy_crate.core.check.finding import Check
from tidy_crate.core.check.mends import mendable

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
    notes = [f"Next: {TITLES[one.next].lower()}."]
    if one.of_farm is not None:
        notes.append("Asks a farm card.")
    if one.code.startswith("brief-"):
        notes.append("Asks the brief.")
    if one.code in mendable():
        notes.append("`--mend` puts it right where no human has to decide.")
    return " " + " ".join(notes)


if __name__ == "__main__":
    import sys

    sys.stdout.write(page())
