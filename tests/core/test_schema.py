"""Files that outlive a version of the tool: one of each earlier version is read, a newer one is refused with words."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from tidy_crate.core.context.decisions import DecisionsFile
from tidy_crate.core.crate.packing import FILE_NAME, SCHEMA, PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import probe_folder
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.estimate.probe_result import SCHEMA as TIMINGS_SCHEMA
from tidy_crate.core.estimate.probe_result import TIMINGS, ProbeFrame, ProbeResult, read_probe
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.request import View

DATA = Path(__file__).parents[1] / "data"
CARD = """name = "harbour"
currency = "EUR"
rates_from = 2026-11-01
[[machine]]
name = "m"
nodes = 1
score = 1
memory_gb = 1
price_per_hour = "0.10"
"""


@pytest.fixture
def old_crate(tmp_path: Path) -> Path:
    crate = tmp_path / "c.crate"
    crate.mkdir()
    shutil.copy(DATA / "packing-list-v1.json", crate / FILE_NAME)
    return crate


def test_a_packing_list_of_version_1_is_upgraded(old_crate: Path) -> None:
    content = read_packing_list(old_crate)
    assert content.packing_list == SCHEMA.version == 2
    (request,) = content.requests
    assert request.views == (View(name="camera-1", camera="/Camera"),) and request.tiles == (1, 1)
    assert [file.path for file in content.files] and content.tokens.declared == ()


def test_timings_of_version_1_are_read_but_not_used_without_a_word(old_crate: Path) -> None:
    content = read_packing_list(old_crate)
    probe_folder(old_crate).mkdir()
    shutil.copy(DATA / "timings-v1.json", probe_folder(old_crate) / TIMINGS)
    with pytest.raises(UnreadableInput, match="do not say which state of the crate") as caught:
        read_probe(old_crate, content)
    assert "--accept-old-timings" in (caught.value.remedy or "")
    found = read_probe(old_crate, content, accept_old=True)
    assert found.probe == TIMINGS_SCHEMA.version and found.frames[0].seconds == 2.5


def probed(content: PackingList, **changes: object) -> ProbeResult:
    assert content.render is not None
    frame = ProbeFrame(
        request="main", frame=1001, seconds=1, memory_bytes=1, width=64, height=36, samples=None, basis="x"
    )
    usual: dict[str, object] = {
        "crate": "c", "frames": (frame,), "load_seconds": 0, "cores_used": 1, "basis": "x", "contents": content.digest,
        "renderer": f"{content.render.name} {content.render.version}".strip(), "command": content.render.command,
    }  # fmt: skip
    return ProbeResult.model_validate(usual | changes)


@pytest.mark.parametrize(
    ("changes", "words"),
    [({}, None), ({"contents": "0" * 64}, "collected again"), ({"renderer": "practice 0.9"}, "made with practice 0.9"),
     ({"command": ("other",)}, "another command line")],
)  # fmt: skip
def test_e2_timings_are_bound_to_crate_renderer_and_command(
    changes: dict[str, object], words: str | None, old_crate: Path
) -> None:
    content = read_packing_list(old_crate)
    reasons = probed(content, **changes).outdated(content)
    assert (reasons == ()) if words is None else words in "; ".join(reasons)


def test_decisions_and_cards_that_state_no_version_are_of_the_first(tmp_path: Path) -> None:
    file = DecisionsFile(tmp_path / "s.usda")
    file.path.parent.mkdir()
    file.path.write_text('# mine\n[[relink]]\nauthored = "a.png"\nto = "b.png"\n')
    assert file.read().relink[0].to == "b.png"
    file.add("relink", [{"authored": "c.png", "to": "d.png"}])
    assert "# mine" in file.path.read_text() and len(file.read().relink) == 2
    file.path.write_text("schema = 1\n" + file.path.read_text())
    assert len(file.read().relink) == 2
    card = tmp_path / "x.farm.toml"
    card.write_text(CARD)
    assert read_card(card).name == "harbour"
    card.write_text("schema = 1\n" + CARD)
    assert read_card(card).name == "harbour"


@pytest.mark.parametrize("version", ["99", '"one"', "0", "true"])
@pytest.mark.parametrize("kind", ["packing list", "timings", "decisions file", "farm card"])
def test_newer_versions_and_such_as_never_were_are_refused_with_words(
    kind: str, version: str, tmp_path: Path, old_crate: Path
) -> None:
    with pytest.raises(TidyCrateError) as caught:
        if kind == "packing list":
            content = json.loads((old_crate / FILE_NAME).read_text()) | {"packing_list": json.loads(version)}
            (old_crate / FILE_NAME).write_text(json.dumps(content))
            read_packing_list(old_crate)
        elif kind == "timings":
            content = read_packing_list(old_crate)
            probe_folder(old_crate).mkdir()
            text = json.dumps(json.loads((DATA / "timings-v1.json").read_text()) | {"probe": json.loads(version)})
            (probe_folder(old_crate) / TIMINGS).write_text(text)
            read_probe(old_crate, content)
        elif kind == "decisions file":
            file = DecisionsFile(tmp_path / "s.usda")
            file.path.parent.mkdir()
            file.path.write_text(f"schema = {version}\n")
            file.read()
        else:
            card = tmp_path / "x.farm.toml"
            card.write_text(f"schema = {version}\n" + CARD)
            read_card(card)
    assert kind in caught.value.what and "version" in caught.value.what
    if version == "99":
        assert "newer tidy-crate" in (caught.value.remedy or "")


def test_upgrades_go_step_by_step() -> None:
    schema = Schema("list", "v", 3, {1: lambda c: c | {"a": [1]}, 2: lambda c: c | {"a": [*c["a"], 2]}})
    assert schema.upgraded({}, "x") == {"a": [1, 2], "v": 3}
    assert schema.upgraded({"v": 2, "a": []}, "x") == {"a": [2], "v": 3}
    assert schema.upgraded({"v": 3}, "x") == {"v": 3}
    assert schema.upgraded([1], "x") == [1]
