"""A pair of test frames with one setting switched."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from conftest import ANY, open_trusted
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.review.pair import render_pair
from traps import SHEET, png

LIGHTS = "/Quay/Lights:mood"
# a renderer whose pictures are as bright as the scene's number of samples says
DRAW = """
import sys, pathlib, numpy, OpenEXR
frame, into, samples = int(sys.argv[1]), pathlib.Path(sys.argv[2]), int(sys.argv[3]) or 2
plane = numpy.full((36, 64), 0.1 * samples, numpy.float16)
channels = dict.fromkeys("RGB", plane) | {"depth.Z": plane.astype(numpy.float32)}
OpenEXR.File({"type": OpenEXR.scanlineimage}, channels).write(str(into / f"p.{frame:04d}.exr"))
"""


def test_f9_a_pair_tells_which_variant_the_farm_rendered(crate: Path) -> None:
    before = {path: path.read_bytes() for path in crate.rglob("*") if path.is_file()}
    first = render_pair(crate, 1001, f"{LIGHTS}=night", ANY)
    beauty = next(one for one in first.outputs if one.output == "Beauty")
    assert (first.was, first.now) == ("dusk", "night") and beauty.pair.differs and beauty.pair.level < -0.3
    farm = shutil.copyfile(beauty.switched, crate.parent / "farm.exr")
    again = render_pair(crate, 1001, f"{LIGHTS}=night", ANY, {"Beauty": farm})
    beauty = next(one for one in again.outputs if one.output == "Beauty")
    assert beauty.nearer == "switched" and beauty.farm_switched is not None and not beauty.farm_switched.differs
    assert {path: path.read_bytes() for path in crate.rglob("*") if path.is_file()} == before


@pytest.fixture
def sheet_crate(tmp_path: Path) -> Path:
    """A crate of a host application's scene, with a renderer of its own."""
    show = tmp_path / "show"
    show.mkdir()
    (show / "s.quay").write_text("a scene")
    (show / "a.png").write_bytes(png())
    draw = tmp_path / "draw.py"
    draw.write_text(DRAW)
    render = {"name": "brush", "version": "7.1",
              "command": ["{python}", draw.as_posix(), "{frames}", "{output_folder}", "{samples}"]}  # fmt: skip
    sheet = SHEET | {"commands": {"render": render}, "settings": {"samples": 2, "clean": True}}
    (show / "s.sheet.json").write_text(json.dumps(sheet))
    collect(open_trusted(show / "s.sheet.json"), tmp_path / "s.crate")
    return tmp_path / "s.crate"


@pytest.mark.parametrize(
    ("switch", "words"),
    [("samples", "not a setting to switch"), ("samples=two", "is a number"), ("samples=2", "that value already"),
     ("clean=maybe", "on or off"), ("nothing=1", "no such setting"), ("clean=false", "cannot have this switched")],
)  # fmt: skip
def test_f9_what_cannot_be_switched_is_refused_by_name(switch: str, words: str, sheet_crate: Path) -> None:
    with pytest.raises(WrongUsage, match=words):
        render_pair(sheet_crate, 1, switch, ANY)


def test_f9_samples_are_switched_by_what_is_asked_of_the_renderer(sheet_crate: Path) -> None:
    (found,) = render_pair(sheet_crate, 3, "samples=4", ANY).outputs
    assert found.pair.differs and found.pair.level == pytest.approx(1.0, abs=0.05)


def test_f9_a_frame_that_is_not_of_the_crate_is_refused(packed: tuple[SceneContext, Path]) -> None:
    with pytest.raises(WrongUsage, match="not among those"):
        render_pair(packed[1], 5, f"{LIGHTS}=night", ANY)
