"""Write the demo's real output into the guide: `python -m tidy_crate.cli.guide_docs docs/guide.md`.

The page marks where the output of a step of the demo stands: `<!-- step 3 check -->` and `<!-- end of step -->`, each
on a line of its own. What is between them is replaced.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

MARKED = re.compile(r"(<!-- step (\d+) ([a-z]+) -->\n).*?(<!-- end of step -->)", re.DOTALL)
_STEP = re.compile(r"^ ?(\d+)  \S.*\n    \$ tidy-crate (.*)\n\n", re.MULTILINE)
# lines of a step that are shown, and their width
MOST_LINES = 32
COLUMNS = 112


def steps_of(told: str) -> dict[int, tuple[str, str]]:
    """Return the command and the output of each step, by its number, from what the demo printed."""
    found = list(_STEP.finditer(told))
    ends = [match.start() for match in found[1:]] + [len(told)]
    steps = {}
    for match, end in zip(found, ends, strict=True):
        output = told[match.end() : end]
        # a chapter's moral, and the title of the next one, are not the command's
        output = re.split(r"\n\n[^\n]+\n\n?-?\d+\. |\n\n\d+\. ", output)[0]
        steps[int(match[1])] = (match[2], output.rstrip())
    return steps


def filled(page: str, steps: dict[int, tuple[str, str]]) -> str:
    """Return the page with the output of its steps. Raises ValueError for a step that runs another command."""

    def block(match: re.Match[str]) -> str:
        command, output = steps[int(match[2])]
        if not command.startswith(match[3] + " "):
            raise ValueError(f"step {match[2]} of the demo is {command}, not {match[3]}")
        lines = [line.rstrip() for line in output.splitlines()]
        shown = lines if len(lines) <= MOST_LINES else [*lines[: MOST_LINES - 1], "..."]
        text = "\n".join([f"$ tidy-crate {command}", "", *shown])
        return f"{match[1]}\n```text\n{text}\n```\n\n{match[4]}"

    return MARKED.sub(block, page)


def main() -> None:
    """Run the demo, and write its output into the page."""
    page = Path(sys.argv[1])
    with tempfile.TemporaryDirectory() as name:
        # a path that reads the same on every machine
        folder = Path(name) / "demo"
        environment = os.environ | {
            "TIDY_CRATE_HOME": str(Path(name) / "home"), "COLUMNS": str(COLUMNS), "NO_COLOR": "1", "TERM": "dumb",
        }  # fmt: skip
        line = [sys.executable, "-m", "tidy_crate", "demo", str(folder)]
        told = subprocess.run(line, env=environment, capture_output=True, check=True, encoding="utf-8").stdout
        told = told.replace(str(folder), "/shows/demo").replace(name, "/shows")
    page.write_text(filled(page.read_text(encoding="utf-8"), steps_of(told)), encoding="utf-8")


if __name__ == "__main__":
    main()
