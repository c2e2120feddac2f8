"""The documentation: its samples hold, its links lead somewhere, and its schemas are those of the program."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tomllib
from datetime import date
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from tidy_crate.cli.chapters import ADVISED, chapters
from tidy_crate.cli.guide_docs import MARKED, filled, steps_of
from tidy_crate.core.schemas import FORMATS, json_schema, text_of
from tidy_crate.core.toml import parse_toml

ROOT = Path(__file__).parents[1]
DOCS = ROOT / "docs"
PAGES = sorted([*DOCS.rglob("*.md"), *ROOT.glob("*.md")])
# what a fragment of a card stands beside
CARD = 'name = "attic"\ncurrency = "EUR"\nrates_from = 2026-11-01\n'
MACHINE = '\n[[machine]]\nname = "m"\nnodes = 1\nscore = 100\nmemory_gb = 8\nprice_per_hour = 1\n'


def samples() -> list[Any]:
    """Every TOML and JSON sample of the pages on file formats."""
    found = []
    for name in FORMATS:
        text = (DOCS / f"formats/{name}.md").read_text(encoding="utf-8")
        blocks = re.findall(r"```(toml|json)\n(.*?)```", text, re.DOTALL)
        found += [pytest.param(name, *block, id=f"{name}-{at}") for at, block in enumerate(blocks)]
    return found


def plain(value: Any) -> Any:
    """Return a value of TOML as JSON has it."""
    if isinstance(value, dict):
        return {key: plain(own) for key, own in value.items()}
    if isinstance(value, list):
        return [plain(own) for own in value]
    return value.isoformat() if isinstance(value, date) else value


@pytest.mark.parametrize(("name", "kind", "text"), samples())
def test_the_samples_of_a_file_format_are_valid(name: str, kind: str, text: str) -> None:
    if name == "farm-card" and "[[machine]]" not in text:
        text = CARD + text + MACHINE
    content = json.loads(text) if kind == "json" else plain(tomllib.loads(text))
    jsonschema.Draft202012Validator(json_schema(name)).validate(content)
    if kind == "toml":
        assert parse_toml(FORMATS[name], text, name, "docs")
    else:
        assert FORMATS[name].model_validate(content)


@pytest.mark.parametrize("name", FORMATS)
def test_the_schemas_in_the_documentation_are_up_to_date(name: str) -> None:
    written = (DOCS / f"schemas/{name}.schema.json").read_text(encoding="utf-8")
    assert written == text_of(name), "run python -m tidy_crate.core.schemas docs/schemas"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.relative_to(ROOT).as_posix())
def test_every_link_leads_to_a_file_and_a_heading(page: Path) -> None:
    text = re.sub(r"```.*?```", "", page.read_text(encoding="utf-8"), flags=re.DOTALL)
    for target in re.findall(r"\]\(([^)\s]+)\)", text):
        if "://" in target or target.startswith("mailto:"):
            continue
        name, _, heading = target.partition("#")
        file = (page.parent / name).resolve() if name else page
        assert file.exists(), f"{page.name}: {target}"
        if heading:
            lines = file.read_text(encoding="utf-8").splitlines()
            slugs = {
                re.sub(r"[^\w\- ]", "", line.lstrip("# ").lower()).replace(" ", "-")
                for line in lines
                if line.startswith("#")
            }
            assert heading in slugs, f"{page.name}: {target}"


def test_the_page_on_the_api_runs_from_top_to_bottom(capsys: pytest.CaptureFixture[str]) -> None:
    text = (DOCS / "api.md").read_text(encoding="utf-8")
    names: dict[str, Any] = {}
    for block in re.findall(r"```python\n(.*?)```", text, re.DOTALL):
        exec(compile(block, "docs/api.md", "exec"), names)
    assert "gullwing" in capsys.readouterr().out


def test_the_site_is_built_without_a_warning_and_asks_no_other_host(tmp_path: Path) -> None:
    line = [sys.executable, "-m", "mkdocs", "build", "--strict", "-q", "-d", str(tmp_path / "site")]
    done = subprocess.run(line, cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    for page in (tmp_path / "site").rglob("*.html"):
        loaded = re.findall(r'<(?:script|link|img|iframe)[^>]*(?:src|href)="(https?:[^"]*)"', page.read_text("utf-8"))
        assert not loaded, f"{page.name} loads {loaded[0]}"


def test_the_guide_shows_what_the_demo_prints() -> None:
    guide = (ROOT / "docs/guide.md").read_text(encoding="utf-8")
    commands = [step.words for chapter in chapters("S", "C", "K", "P") for step in chapter.steps]
    commands = [("send", *words[1:]) if words[0] == ADVISED else words for words in commands]
    shown = list(MARKED.finditer(guide))
    assert len(shown) > 10
    for block in shown:
        # the block begins with the command line of that step, and goes on with its output
        first, _, rest = block[0].partition("```text\n")[2].partition("\n")
        assert first.startswith(f"$ tidy-crate {commands[int(block[2]) - 1][0]} "), first
        assert block[3] == first.split()[2] and len(rest.splitlines()) > 3, first


def test_outputs_of_the_demo_are_told_apart() -> None:
    told = """
1. What is in it ---

 1  What is in the scene?
    $ tidy-crate survey s.usda

frames  1
   x    2

A moral.

2. Made ready ---

 2  Find them.
    $ tidy-crate relink s.usda

found
"""
    steps = steps_of(told)
    assert steps == {1: ("survey s.usda", "frames  1\n   x    2"), 2: ("relink s.usda", "found")}
    page = "a\n<!-- step 2 relink -->\nold\n<!-- end of step -->\nb"
    assert filled(page, steps).splitlines()[3:7] == ["```text", "$ tidy-crate relink s.usda", "", "found"]
    with pytest.raises(ValueError, match="not survey"):
        filled(page.replace("relink", "survey"), steps)
