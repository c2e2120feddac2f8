"""Folders for frames at home by a pattern of the project's own."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

import pytest
from pydantic import TypeAdapter, ValidationError
from test_asked import Links, card

from farms import MemoryFarm, prepared
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.review.run import review_job
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.folders import FolderPattern, folder_by, pattern
from tidy_crate.core.work.request import RenderRequest, VariantChoice, View

DUSK = View(name="v1", camera="/W/Left", variants=(VariantChoice(prim="/W", set="light", choice="dusk"),))
REQUEST = RenderRequest(name="main", frames="1-2", width=4, height=4, outputs=("Beauty",), views=(DUSK,))


@pytest.mark.parametrize(
    ("text", "view", "folder"),
    [("{variant}/{camera}/{output}", "v1", "dusk/Left/Beauty"),
     ("{variant}/{camera}/{output}", "", "Own/Beauty"),
     ("{request}_{view}/pictures", "v1", "main_v1/pictures"),
     ("shot/{variant}-{view}/{output}", "", "shot/Beauty")],
)  # fmt: skip
def test_f1_fields_have_their_values_and_empty_ones_leave_no_folder(text: str, view: str, folder: str) -> None:
    assert folder_by(text, REQUEST, view, "Beauty", "/W/Own") == PurePosixPath(folder)


def test_f1_no_name_in_a_scene_leads_elsewhere() -> None:
    hostile = folder_by("{camera}/{output}", REQUEST, "", "..", "/W/..")
    assert ".." not in hostile.parts and not hostile.is_absolute()


@pytest.mark.parametrize(
    "text", ["/abs/{output}", "../{output}", "a//b", "{size}", "{output", "a\\b", "nul/{output}", "set-aside/{output}"]
)
def test_f1_a_pattern_that_is_no_path_of_folders_is_refused(text: str) -> None:
    with pytest.raises(ValidationError):
        TypeAdapter(FolderPattern).validate_python(text)
    with pytest.raises(WrongUsage):
        pattern(text)


def test_f1_frames_come_home_into_folders_by_pattern_and_are_found_there(
    packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    (variant, *_) = packed[0].survey().variants
    base = prepared(packed[1], card("a"), frames="1001-1002", variants=[f"{variant.prim}:{variant.set}=*"])
    ledger, farm = Ledger(tmp_path / "l.sqlite"), MemoryFarm("a")
    job, links = send(base, card("a"), Path("a"), farm.link(), ledger).job, Links(farm)
    with pytest.raises(WrongUsage, match="give two frames one path"):
        retrieve(ledger, job, tmp_path / "f", links, folders="{output}")
    came = retrieve(ledger, job, tmp_path / "f", links, folders="{variant}/{output}")
    found = {path.parent.relative_to(tmp_path / "f").as_posix() for path in (tmp_path / "f").rglob("*.exr")}
    assert found == {f"{choice}/{output}" for choice in variant.choices for output in base.packing.requests[0].outputs}
    # the pattern holds from then on, for all that looks for the frames
    assert retrieve(ledger, job, tmp_path / "f", links).at_home == came.at_home > 0
    assert all(one.verdict is not Verdict.MISSING for one in review_job(ledger, job).frames)
    with pytest.raises(WrongUsage, match="home already"):
        retrieve(ledger, job, tmp_path / "f", links, folders="{view}/{output}")
