"""Patterns from scenes, briefs and decisions: matched in a time that grows with the text, by one engine."""

from __future__ import annotations

import ast
import fnmatch
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tidy_crate
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.patterns import matches
from tidy_crate.core.scene.staging import Relink

SOURCE = Path(tidy_crate.__file__).parent


@given(st.text(alphabet="ab*?.é\udc80", max_size=8), st.text(alphabet="ab.é\udc80", max_size=8))
def test_a_wildcard_means_what_it_means_everywhere(wildcard: str, text: str) -> None:
    assert matches(text, wildcard) == fnmatch.fnmatchcase(text, wildcard)


def test_the_wildcards_of_decisions_take_no_time_either() -> None:
    edit = Relink(authored="*a" * 40 + "b", to=Path("/x"))
    began = time.perf_counter()
    assert not edit.concerns("", "a" * 4000)
    assert time.perf_counter() - began < 5


def test_brackets_are_letters() -> None:
    assert matches("tex/img[1].png", "tex/img[1].*") and not matches("tex/img1.png", "tex/img[1].*")


@pytest.mark.parametrize("wildcard", ["*a" * 40 + "b", "*" * 5000 + "b", "*?" * 800 + "b"])
def test_no_wildcard_takes_long(wildcard: str) -> None:
    began = time.perf_counter()
    assert not matches("a" * 4000, wildcard)
    assert time.perf_counter() - began < 5


@pytest.mark.parametrize("name", ["%d" * 14 + "x", "#" * 3000 + ".exr", "%d." * 12 + "y", "%02d" * 60])
def test_no_name_with_many_tokens_takes_long(name: str) -> None:
    began = time.perf_counter()
    names = ["1" * 200 + ".exr", ".".join("1" * 100), "12" * 100]
    assert not STANDARD.members(name, names) or "%02d" in name
    assert time.perf_counter() - began < 5


def test_names_that_no_encoding_can_write_are_members_too() -> None:
    names = ["b\udcff.0001.exr", "b\udcff.0002.exr", "b.0003.exr", "b\udcff.٠٠٠٣.exr"]
    assert STANDARD.members("b\udcff.####.exr", names) == {names[0]: 1, names[1]: 2}


# decisions keep the wildcards that they always had; its patterns never go back over a part that has matched
_WILDCARDS = {"core/scene/staging.py"}
# patterns that are put together of texts of our own
_OURS = {"practice/farm/settings.py", "core/farm/links/cluster/on_worker.py"}


def _compiles(node: ast.Call) -> bool:
    own = node.func
    return (
        isinstance(own, ast.Attribute)
        and isinstance(own.value, ast.Name)
        and own.value.id == "re"
        and own.attr != "escape"
    )


def _is_ours(node: ast.expr) -> bool:
    """Return whether an expression is a text of this program: a constant, or one put together of constants."""
    if isinstance(node, ast.JoinedStr):
        return all(isinstance(one, ast.Constant) or _is_ours(one.value) for one in node.values)  # type: ignore[attr-defined]
    return isinstance(node, ast.Constant | ast.BinOp) or (isinstance(node, ast.Name) and node.id.isupper())


def test_only_the_linear_engine_compiles_what_others_wrote() -> None:
    """A pattern of Python's own engine is a constant of ours; `fnmatch` is that engine too."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        where = path.relative_to(SOURCE).as_posix()
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Import | ast.ImportFrom):
                named = [one.name for one in node.names] + [getattr(node, "module", None) or ""]
                if "fnmatch" in named and where not in _WILDCARDS:
                    found.append(f"{where}:{node.lineno}: fnmatch")
            elif isinstance(node, ast.Call) and _compiles(node) and where not in _OURS and not _is_ours(node.args[0]):
                found.append(f"{where}:{node.lineno}: {ast.unparse(node)[:80]}")
    assert not found, found


@given(
    st.sampled_from(["####", "#", "%d", "%04d", "%02d", "<UDIM>", "<frame>"]),
    st.lists(st.from_regex(r"-?[0-9]{1,6}|-|--1|1e3", fullmatch=True), max_size=6),
    st.booleans(),
)
def test_the_quick_way_for_one_token_is_the_way_of_the_pattern(token: str, texts: list[str], loose: bool) -> None:
    """A name with a second token goes through the pattern: the first one has to count the same there."""
    name, two = f"a.{token}.exr", f"a.{token}.b%d.exr"
    names = [f"a.{text}.exr" for text in texts]
    quick = dict(STANDARD._numbers(name, names, loose=loose))
    slow = dict(STANDARD._numbers(two, [one.replace(".exr", ".b7.exr") for one in names], loose=loose))
    assert quick == {one.replace(".b7.exr", ".exr"): number for one, number in slow.items()}
